package standin_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/secret"
)

// Over JMAP a mailbox is what it is over IMAP.
func TestJMAP(t *testing.T) {
	r := start(t, sample.Load(t, harbour).Estate(), nil)
	const ada = "ada@kelp.example"
	account := mailbox.Account{Name: ada, JMAP: r.service.Ready().JMAP, Login: endpoint.Login{User: ada, Secret: secret.New("tide")}}
	r.send("", "guest@holiday.example", "open@kelp.example", nil)
	r.service.Settle(time.Minute)
	box, err := mailbox.Open(t.Context(), account)
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	q := mailbox.Query{Since: clock.Now().Add(-48 * time.Hour), Wants: func(*read.Message) bool { return true }}
	first := box.Look(q)
	if first.Err != nil || len(first.Items) != 1 || first.Items[0].Role != mailbox.Inbox || !strings.Contains(first.Items[0].Message.Text, "Hello.") {
		t.Fatalf("%v, %+v", first.Err, first.Items)
	}
	r.send("", "guest@holiday.example", "open@kelp.example", func(d *compose.Message) {
		d.Subject = strings.Repeat("A long subject that is folded into lines ", 4)
	})
	r.service.Settle(time.Minute)
	second := box.Look(q)
	if second.Err != nil || len(second.Items) != 1 || second.Items[0].Message.ID == first.Items[0].Message.ID {
		t.Fatalf("%v, %d are new", second.Err, len(second.Items))
	}
	over := r.box(ada)
	for i, item := range []mailbox.Item{first.Items[0], second.Items[0]} {
		if string(over[i].Raw) != string(item.Raw) {
			t.Errorf("over IMAP it is %q, over JMAP %q", over[i].Raw, item.Raw)
		}
	}
	if _, err := box.Remove(first.Items, false); err != nil {
		t.Fatal(err)
	}
	if left := r.box(ada); len(left) != 1 || left[0].Message.ID != second.Items[0].Message.ID {
		t.Errorf("%d are left", len(left))
	}
	account.Login.Secret = secret.New("ebb")
	if _, err := mailbox.Open(t.Context(), account); err == nil || !mailbox.IsCertain(err) {
		t.Errorf("a wrong password: %v", err)
	}
}

// What is no request is refused, and nobody sees another's messages.
func TestOddJMAP(t *testing.T) {
	r := start(t, sample.Load(t, harbour).Estate(), nil)
	base := strings.TrimSuffix(r.service.Ready().JMAP, "/.well-known/jmap")
	ask := func(method, path, body string) (int, string) {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), method, base+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		request.SetBasicAuth("ada@kelp.example", "tide")
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(text)
	}
	for _, test := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"POST", "/jmap/api", "{", 400, "this is no request"},
		{"POST", "/jmap/api", `{"methodCalls": [["Email/paint", {}, "0"]]}`, 200, "unknownMethod"},
		{"POST", "/jmap/api", `{"methodCalls": [["Email/changes", {"sinceState": "?"}, "0"]]}`, 200, "this is no state"},
		{"POST", "/jmap/api", `{"methodCalls": [["Email/get", {"ids": ["m1", "mSU5CT1g.1.77"]}, "0"]]}`, 200, `"notFound":["m1","mSU5CT1g.1.77"]`},
		{"POST", "/jmap/api", `{"methodCalls": [["Email/set", {"destroy": ["m1"]}, "0"]]}`, 200, `"notDestroyed":{"m1"`},
		{"POST", "/jmap/api", `{"methodCalls": [` + strings.Repeat(`["Mailbox/get", {}, "0"],`, 20) + `["Mailbox/get", {}, "0"]]}`, 400, "too many calls"},
		{"GET", "/jmap/download/bo@kelp.example/mSU5CT1g.1.1/x", "", 404, ""},
		{"GET", "/jmap/download/ada@kelp.example/mSU5CT1g.1.1/x", "", 404, ""},
	} {
		if status, text := ask(test.method, test.path, test.body); status != test.status || !strings.Contains(text, test.want) {
			t.Errorf("%s %s %.60s: %d %s, want %d %s", test.method, test.path, test.body, status, text, test.status, test.want)
		}
	}
}
