package watch

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/store"
)

// A signature is that of RFC 9421, as another program worked it out.
func TestSign(t *testing.T) {
	r := httptest.NewRequest(http.MethodPost, "https://alarms.example/in?x=1", nil)
	r.Header.Set("Content-Digest", "sha-256=:abc=:")
	r.Header.Set("Idempotency-Key", `"b1"`)
	Sign(r, []byte("key"), time.Unix(1_800_000_000, 0))
	if got, want := r.Header.Get("Signature"), "yorvet=:iJqD5Pk1aAexkx1ReI1z0IopoK+0iw/dAGgWzI2aqYE=:"; got != want {
		t.Errorf("the signature is %s, want %s", got, want)
	}
}

func batch(t *testing.T) *store.Batch {
	t.Helper()
	body, err := json.Marshal(&present.WatchEvent{Item: "hazards", New: []present.HistoryFact{{Says: "x"}}})
	if err != nil {
		t.Fatal(err)
	}
	return &store.Batch{ID: "b1", Channel: "hook", Alarms: []store.Alarm{{ID: "a1", Body: string(body), At: clock.Now()}}}
}

// What is posted can be checked and told from what is posted again; what does not take it is an
// error that shows neither the URL nor the secret.
func TestPost(t *testing.T) {
	t.Setenv("HOOK_SECRET", "geheim")
	var seen http.Header
	answer := http.StatusNoContent
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen = r.Header
		var p Posted
		if err := json.NewDecoder(r.Body).Decode(&p); err != nil || p.Says != "hazards: x" || len(p.Alarms) != 1 || p.Batch != "b1" {
			t.Errorf("%+v, %v", p, err)
		}
		if answer == http.StatusFound {
			w.Header().Set("Location", "/elsewhere")
		}
		w.WriteHeader(answer)
	}))
	defer server.Close()
	channel := &Channel{Name: "hook", Post: &PostChannel{URL: server.URL + "/token-4711", Secret: &secret.From{Environment: "HOOK_SECRET"}}}
	s := NewSender(&Plan{Name: "p", Path: "plan.yaml"}, "test", func(string) {})
	for range 2 {
		if err := s.Send(t.Context(), channel, batch(t)); err != nil {
			t.Fatal(err)
		}
		if seen.Get("Idempotency-Key") != `"b1"` || !strings.HasPrefix(seen.Get("Content-Digest"), "sha-256=:") ||
			!strings.HasPrefix(seen.Get("Signature"), "yorvet=:") {
			t.Errorf("the header is %v", seen)
		}
	}
	for _, answer = range []int{http.StatusFound, http.StatusBadRequest, http.StatusInternalServerError} {
		err := s.Send(t.Context(), channel, batch(t))
		if err == nil || strings.Contains(err.Error(), "4711") || strings.Contains(err.Error(), "geheim") {
			t.Errorf("%d: %v", answer, err)
		}
	}
	server.Close()
	if err := s.Send(t.Context(), channel, batch(t)); err == nil || strings.Contains(err.Error(), "4711") {
		t.Errorf("nobody listens: %v", err)
	}
	channel.Post.Secret.Environment = "HOOK_NOT_THERE"
	if err := s.Send(t.Context(), channel, batch(t)); err == nil {
		t.Error("there is no secret, and no error")
	}
}

// Health tells of what does not go on, and not of what is found.
func TestHealth(t *testing.T) {
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	w := &Watcher{Plan: &Plan{Items: []Item{{Name: "a", Kind: KindCheck}}}}
	state := func(s string, due, beat time.Time, err error) Health {
		w.status = Status{Beat: beat, Store: err, Items: map[string]ItemStatus{"a": {State: s, Due: due, Ended: now}}}
		return w.Health(now)
	}
	for what, h := range map[string]Health{
		"well":                  state(store.Wrong, now.Add(time.Hour), now, nil),
		"not yet asked":         state("", now, now, nil),
		"a little late":         state(store.Good, now.Add(-time.Minute), now, nil),
		"":                      {},
		"broken":                state(store.Broken, now, now, nil),
		"stuck":                 state(store.Good, now, now.Add(-2*time.Minute), nil),
		"without a store":       state(store.Good, now, now, errors.New("away")),
		"overdue for long":      state(store.Good, now.Add(-time.Hour), now, nil),
		"overdue and not asked": state("", now.Add(-time.Hour), now, nil),
	} {
		well := what == "well" || what == "not yet asked" || what == "a little late"
		if h.Healthy != well || what != "" && well != (len(h.Why) == 0) {
			t.Errorf("%s: %+v", what, h)
		}
	}
}
