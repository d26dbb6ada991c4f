package connections

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
)

// authority is a small authorisation server.
type authority struct {
	mutex   sync.Mutex
	asked   []string // the grants, with what they name
	expires int      // seconds
	refuse  bool
	waits   int // so often a person has not logged in yet
}

func (a *authority) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	_ = r.ParseForm()
	w.Header().Set("Content-Type", "application/json")
	if r.URL.Path == "/device" {
		fmt.Fprintf(w, `{"device_code": "d1", "user_code": "WDJB-MJHT", "verification_uri": "https://login.example/device", "expires_in": 60, "interval": 1}`)
		return
	}
	grant := r.Form.Get("grant_type")
	id, password, _ := r.BasicAuth()
	a.asked = append(a.asked, strings.TrimSpace(strings.Join([]string{grant, id, password, r.Form.Get("client_id"), r.Form.Get("client_secret"),
		r.Form.Get("refresh_token"), r.Form.Get("subject"), r.Form.Get("scope")}, " ")))
	switch {
	case a.refuse:
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprintf(w, `{"error": "invalid_client", "error_description": "hush-42 is wrong"}`)
	case a.waits > 0:
		a.waits--
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprint(w, `{"error": "authorization_pending"}`)
	default:
		fmt.Fprintf(w, `{"access_token": "t%d", "token_type": "Bearer", "expires_in": %d, "refresh_token": "r%d"}`, len(a.asked), a.expires, len(a.asked))
	}
}

func loaded(t *testing.T, oauth string) (*Connections, error) {
	t.Helper()
	t.Setenv("OAUTH_TEST", "hush-42")
	path := filepath.Join(t.TempDir(), "connections.yaml")
	text := "yorvet-connections: 1\nsend:\n  - name: in\n    server: mail.example:465\n    tls: implicit\n    from: [inside]\n    login:\n      oauth: " + oauth + "\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return Load(context.Background(), path)
}

// A token is fetched when somebody logs in, kept as long as it is good, and renewed.
func TestTokens(t *testing.T) {
	a := &authority{expires: 3600}
	server := httptest.NewServer(a)
	defer server.Close()
	ann, bob := address.MustParse("ann@k.example"), address.MustParse("bob@k.example")
	token := func(l *Connections, who address.Address) string {
		t.Helper()
		login := l.Outgoing[0].As(who).Login
		text, err := login.Token(t.Context())
		if err != nil {
			return "! " + err.Error()
		}
		return text.Reveal()
	}
	unlocked := func(oauth string) *Connections {
		t.Helper()
		l, err := loaded(t, oauth)
		if err == nil {
			err = l.Unlock(t.Context(), false, func(string) {})
		}
		if err != nil {
			t.Fatal(err)
		}
		return l
	}
	at := "{token-url: " + server.URL + "/token, client-id: yorvet, "
	l := unlocked(at + "client-secret: {environment: OAUTH_TEST}, scope: mail.send mail.read}")
	if got := token(l, ann) + token(l, bob) + token(l, ann); got != "t1t1t1" {
		t.Errorf("the client's own tokens are %s", got)
	}
	l = unlocked(at + "client-secret: {environment: OAUTH_TEST}, parameters: {subject: '{address}'}}")
	if got := token(l, ann) + token(l, bob) + token(l, ann); got != "t2t3t2" {
		t.Errorf("each one's tokens are %s", got)
	}
	a.expires = 1 // which is as good as over
	l = unlocked(at + "refresh-token: {environment: OAUTH_TEST}}")
	if got := token(l, ann) + token(l, ann); got != "t4t5" {
		t.Errorf("tokens that are renewed are %s", got)
	}
	want := []string{"client_credentials yorvet hush-42     mail.send mail.read", "client_credentials yorvet hush-42    ann@k.example",
		"client_credentials yorvet hush-42    bob@k.example", "refresh_token yorvet     hush-42", "refresh_token yorvet     r4"}
	for i, text := range want {
		if strings.Join(strings.Fields(a.asked[i]), " ") != strings.Join(strings.Fields(text), " ") {
			t.Errorf("asked %d is %q, want %q", i, a.asked[i], text)
		}
	}
	a.refuse = true
	if got := token(l, ann); !strings.HasPrefix(got, "! ") || !strings.Contains(got, "gives no token: invalid_client") || strings.Contains(got, "hush-42") {
		t.Errorf("refused, it is said: %s", got)
	}
	server.Close()
	if got := token(l, ann); !strings.Contains(got, "nobody listens there") {
		t.Errorf("with nobody there, it is said: %s", got)
	}
}

// A person is asked once to log in.
func TestDeviceLogin(t *testing.T) {
	a := &authority{expires: 3600, waits: 1}
	server := httptest.NewServer(a)
	defer server.Close()
	l, err := loaded(t, "{token-url: "+server.URL+"/token, device-url: "+server.URL+"/device, client-id: yorvet}")
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for range 2 {
		if err := l.Unlock(t.Context(), false, func(text string) { told = append(told, text) }); err != nil {
			t.Fatal(err)
		}
	}
	if fmt.Sprint(told) != "[to log in, open https://login.example/device and enter the code WDJB-MJHT]" {
		t.Errorf("told is %v", told)
	}
	text, err := l.Outgoing[0].As(address.MustParse("ann@k.example")).Login.Token(t.Context())
	if err != nil || text.Reveal() != "t2" {
		t.Errorf("%q, %v", text.Reveal(), err)
	}
}

func TestOAuthErrors(t *testing.T) {
	for text, want := range map[string]string{
		"{token-url: 'http://far.example/token', client-id: x, client-secret: {environment: A}}":                                       "expected a URL with https",
		"{token-url: 'https://far.example/token', client-secret: {environment: A}}":                                                    "needs client-id",
		"{token-url: 'https://far.example/token', client-id: x}":                                                                       "needs client-secret, refresh-token or device-url",
		"{token-url: 'https://far.example/token', client-id: x, refresh-token: {environment: A}, device-url: 'https://far.example/d'}": "either refresh-token or device-url",
		"{token-url: 'https://far.example/token', client-id: x, client-secret: {environment: A}}, password: {environment: A}":          "",
	} {
		_, err := loaded(t, text)
		if want == "" && err == nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
}
