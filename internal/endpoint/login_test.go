package endpoint

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/xdg-go/scram"

	"yorvet.example/yorvet/internal/secret"
)

// What a login says with each mechanism, and which it takes of those that are offered.
func TestMechanisms(t *testing.T) {
	hush := secret.New("hush-42")
	token := func(context.Context) (secret.Text, error) { return secret.New("fresh-7"), nil }
	for _, test := range []struct {
		name    string
		login   Login
		offered []string
		want    string // the mechanism and what is said at first, or an error
	}{
		{"nothing is known", Login{User: "ann", Secret: hush}, nil, "PLAIN \x00ann\x00hush-42"},
		{"the usual", Login{User: "ann", Secret: hush}, []string{"LOGIN", "plain"}, "PLAIN \x00ann\x00hush-42"},
		{"in another's name", Login{User: "keeper", As: "ann", Secret: hush}, []string{"PLAIN", "LOGIN"}, "PLAIN ann\x00keeper\x00hush-42"},
		{"in another's name, which cannot be said", Login{User: "keeper", As: "ann", Secret: hush}, []string{"LOGIN"}, "! expected PLAIN or SCRAM-SHA-256"},
		{"nothing else", Login{User: "ann", Secret: hush}, []string{"LOGIN"}, "LOGIN "},
		{"as it is told", Login{User: "ann", Mechanism: "login", Secret: hush}, []string{"PLAIN", "LOGIN"}, "LOGIN "},
		{"nothing in common", Login{User: "ann", Secret: hush}, []string{"GSSAPI", "NTLM"}, "! it offers GSSAPI, NTLM, expected PLAIN or SCRAM-SHA-256 or LOGIN"},
		{"a token", Login{User: "ann", Bearer: true, Secret: hush}, []string{"XOAUTH2", "OAUTHBEARER"}, "OAUTHBEARER n,a=ann,\x01auth=Bearer hush-42\x01\x01"},
		{"a token, as some have it", Login{User: "ann", Bearer: true, Secret: hush}, []string{"PLAIN", "XOAUTH2"}, "XOAUTH2 user=ann\x01auth=Bearer hush-42\x01\x01"},
		{"a token for another's mailbox", Login{User: "keeper", As: "ann", Bearer: true, Secret: hush}, []string{"XOAUTH2"}, "XOAUTH2 user=ann\x01auth=Bearer hush-42\x01\x01"},
		{"a token that is fetched", Login{User: "ann", Bearer: true, Token: token}, []string{"XOAUTH2"}, "XOAUTH2 user=ann\x01auth=Bearer fresh-7\x01\x01"},
		{"a token where none is taken", Login{User: "ann", Bearer: true, Secret: hush}, []string{"PLAIN"}, "! expected OAUTHBEARER or XOAUTH2"},
		{"a certificate", Login{As: "ann", Mechanism: "EXTERNAL"}, []string{"EXTERNAL"}, "EXTERNAL ann"},
	} {
		client, err := test.login.Client(t.Context(), test.offered)
		if err != nil {
			if want, ok := strings.CutPrefix(test.want, "! "); !ok || !strings.Contains(err.Error(), want) || !errors.Is(err, ErrNoMechanism) {
				t.Errorf("%s: %v", test.name, err)
			}
			continue
		}
		mechanism, first, err := client.Start()
		if err != nil || mechanism+" "+string(first) != test.want {
			t.Errorf("%s: %s %q, %v; want %q", test.name, mechanism, first, err, test.want)
		}
	}
	failing := Login{Token: func(context.Context) (secret.Text, error) { return secret.Text{}, context.Canceled }, Bearer: true}
	if _, err := failing.Client(t.Context(), []string{"XOAUTH2"}); !errors.Is(err, context.Canceled) {
		t.Errorf("without a token: %v", err)
	}
}

// LOGIN answers what it is asked for, and nothing else.
func TestPromptedLogin(t *testing.T) {
	client, err := Login{User: "ann", Secret: secret.New("hush-42")}.Client(t.Context(), []string{"LOGIN"})
	if err != nil {
		t.Fatal(err)
	}
	for asked, want := range map[string]string{"Username:": "ann", "User Name\x00": "ann", "Password:": "hush-42", "PASSWORD": "hush-42", "Shoe size:": ""} {
		got, err := client.Next([]byte(asked))
		if string(got) != want || (err != nil) != (want == "") {
			t.Errorf("%q is answered %q, %v", asked, got, err)
		}
	}
}

// SCRAM proves the password without saying it, and has the server prove that it knows it.
func TestSCRAM(t *testing.T) {
	kept, err := scram.SHA256.NewClient("ann", "hush-42", "")
	if err != nil {
		t.Fatal(err)
	}
	credentials, err := kept.GetStoredCredentialsWithError(scram.KeyFactors{Salt: "salt-of-ann-1234", Iters: 4096})
	if err != nil {
		t.Fatal(err)
	}
	server, err := scram.SHA256.NewServer(func(string) (scram.StoredCredentials, error) { return credentials, nil })
	if err != nil {
		t.Fatal(err)
	}
	for password, good := range map[string]bool{"hush-42": true, "ebb-42": false} {
		client, err := Login{User: "ann", Secret: secret.New(password)}.Client(t.Context(), []string{"SCRAM-SHA-256", "LOGIN"})
		if err != nil {
			t.Fatal(err)
		}
		talk := server.NewConversation()
		mechanism, said, err := client.Start()
		if err != nil || mechanism != "SCRAM-SHA-256" {
			t.Fatal(mechanism, err)
		}
		for !talk.Done() {
			if strings.Contains(string(said), password) {
				t.Errorf("the password is said: %q", said)
			}
			answer, err := talk.Step(string(said))
			if err != nil {
				break
			}
			if said, err = client.Next([]byte(answer)); err != nil {
				t.Errorf("%s: %v", password, err)
				break
			}
		}
		if talk.Valid() != good {
			t.Errorf("with %s it is valid: %t", password, talk.Valid())
		}
	}
	liar, err := Login{User: "ann", Secret: secret.New("hush-42")}.Client(t.Context(), []string{"SCRAM-SHA-256"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := liar.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := liar.Next([]byte("r=another,s=c2FsdA==,i=4096")); err == nil {
		t.Error("a server with another nonce is believed")
	}
}

// A server has nobody hash a password for hours.
func TestRounds(t *testing.T) {
	for text, want := range map[string]string{
		"r=abc,s=c2FsdA==,i=2000000000":             "more than 1000000 rounds",
		"r=abc,s=c2FsdA==,i=99999999999999999999":   "more than 1000000 rounds",
		"r=abc,s=c2FsdA==,i=1000001":                "more than 1000000 rounds",
		"r=abc,s=c2FsdA==,i=4096":                   "does not prove",
		"i=5000000000,r=abc,s=c2FsdA==,i=4096":      "more than 1000000 rounds",
		"r=abc,s=c2FsdA==,i=0000000000000000004096": "does not prove",
	} {
		client, err := Login{User: "ann", Mechanism: "SCRAM-SHA-256", Secret: secret.New("hush-42")}.Client(t.Context(), nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := client.Start(); err != nil {
			t.Fatal(err)
		}
		if _, err := client.Next([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
}
