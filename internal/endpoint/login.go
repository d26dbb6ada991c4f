package endpoint

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/emersion/go-sasl"
	"github.com/xdg-go/scram"

	"yorvet.example/yorvet/internal/secret"
)

// A Login is who logs in. Its secret never shows in text.
type Login struct {
	User string
	As   string // authorisation identity: in whose name (RFC 4422, section 2); "" for User's own
	// Mechanism is the name of the SASL mechanism; "": one that the server offers.
	Mechanism string
	Bearer    bool // the secret is a token rather than a password
	Secret    secret.Text
	// Token gives a token that is good now, in place of Secret; nil: there is none.
	Token func(context.Context) (secret.Text, error)
}

// The SASL mechanisms that a login knows. Those for passwords and tokens are tried in this
// order.
const (
	plain       = "PLAIN"         // RFC 4616
	scramSHA256 = "SCRAM-SHA-256" // RFC 7677
	login       = "LOGIN"         // never a standard, but offered where nothing else is
	oauthBearer = "OAUTHBEARER"   // RFC 7628
	xoauth2     = "XOAUTH2"       // as several hosted services have it
	external    = "EXTERNAL"      // RFC 4422, appendix A: the certificate says who it is
)

// Mechanisms returns the names of the mechanisms that a login knows.
func Mechanisms() []string {
	return []string{plain, scramSHA256, login, oauthBearer, xoauth2, external}
}

// ErrNoMechanism is what the error is where a server offers no mechanism that can be used.
var ErrNoMechanism = errors.New("no way to log in that the server offers can be used")

// Client returns the SASL exchange with a server that offers some mechanisms. Where it offers
// none, the usual one is taken.
func (l Login) Client(ctx context.Context, offered []string) (sasl.Client, error) {
	mechanism, err := l.choose(offered)
	if err != nil {
		return nil, err
	}
	text := l.Secret
	if l.Token != nil {
		if text, err = l.Token(ctx); err != nil {
			return nil, err
		}
	}
	switch mechanism {
	case oauthBearer:
		return bearer{sasl.NewOAuthBearerClient(&sasl.OAuthBearerOptions{Username: l.user(), Token: text.Reveal()})}, nil
	case xoauth2:
		return &oneShot{name: xoauth2, first: "user=" + l.user() + "\x01auth=Bearer " + text.Reveal() + "\x01\x01"}, nil
	case external:
		return sasl.NewExternalClient(l.As), nil
	case login:
		return &promptedLogin{l.User, text}, nil
	case scramSHA256:
		client, err := scram.SHA256.NewClient(l.User, text.Reveal(), l.As)
		if err != nil {
			return nil, errors.New("the user or the password has characters that SCRAM does not allow")
		}
		return &scramLogin{client.NewConversation()}, nil
	}
	return sasl.NewPlainClient(l.As, l.User, text.Reveal()), nil
}

// HTTP returns the Authorization field of a request (RFC 7617, RFC 6750).
func (l Login) HTTP(ctx context.Context) (string, error) {
	text := l.Secret
	if l.Token != nil {
		var err error
		if text, err = l.Token(ctx); err != nil {
			return "", err
		}
	}
	if l.Bearer {
		return "Bearer " + text.Reveal(), nil
	}
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(l.User+":"+text.Reveal())), nil
}

// user returns the mailbox that a token is for.
func (l Login) user() string {
	if l.As != "" {
		return l.As
	}
	return l.User
}

// choose returns the mechanism to use.
func (l Login) choose(offered []string) (string, error) {
	wanted := []string{plain, scramSHA256, login}
	switch {
	case l.Mechanism != "":
		wanted = []string{strings.ToUpper(l.Mechanism)}
	case l.Bearer:
		wanted = []string{oauthBearer, xoauth2}
	case l.As != "":
		wanted = []string{plain, scramSHA256} // which can say in whose name
	}
	if len(offered) == 0 {
		return wanted[0], nil
	}
	for _, name := range wanted {
		if slices.ContainsFunc(offered, func(one string) bool { return strings.EqualFold(one, name) }) {
			return name, nil
		}
	}
	return "", fmt.Errorf("%w: it offers %s, expected %s", ErrNoMechanism, strings.Join(offered, ", "),
		strings.Join(wanted, " or "))
}

// bearer is the mechanism OAUTHBEARER. Where the token is rejected, the server is asked to say so in
// words of its own protocol (RFC 7628, section 3.2.3).
type bearer struct{ sasl.Client }

func (bearer) Next([]byte) ([]byte, error) { return []byte{1}, nil }

// oneShot is a mechanism of a single message. What else a server says is answered with
// nothing, so that it says why it refuses.
type oneShot struct{ name, first string }

func (c *oneShot) Start() (string, []byte, error) { return c.name, []byte(c.first), nil }

func (c *oneShot) Next([]byte) ([]byte, error) { return []byte{}, nil }

// promptedLogin is the mechanism LOGIN: the server asks for a name, then for a password.
type promptedLogin struct {
	user     string
	password secret.Text
}

func (c *promptedLogin) Start() (string, []byte, error) { return login, nil, nil }

func (c *promptedLogin) Next(challenge []byte) ([]byte, error) {
	switch asked := strings.ToLower(strings.TrimRight(string(challenge), ":\x00 ")); {
	case strings.HasPrefix(asked, "user"):
		return []byte(c.user), nil
	case strings.HasPrefix(asked, "pass"):
		return []byte(c.password.Reveal()), nil
	}
	return nil, errors.New("the server asks for neither a name nor a password")
}

// scramLogin is the mechanism SCRAM-SHA-256 (RFC 5802, RFC 7677).
type scramLogin struct{ conversation *scram.ClientConversation }

func (c *scramLogin) Start() (string, []byte, error) {
	first, err := c.conversation.Step("")
	return scramSHA256, []byte(first), err
}

// mostRounds is how often a password is hashed at most, as a server asks for it: far more than any asks
// for (RFC 7677, section 4), and done in a moment.
const mostRounds = 1_000_000

// rounds is what a challenge asks for (RFC 5802, section 5.1).
var rounds = regexp.MustCompile(`(?:^|,)i=(\d+)`)

func (c *scramLogin) Next(challenge []byte) ([]byte, error) {
	if asked := rounds.FindSubmatch(challenge); asked != nil {
		if n, err := strconv.Atoi(string(asked[1])); err != nil || n > mostRounds {
			return nil, fmt.Errorf("the server asks for more than %d rounds of hashing", mostRounds)
		}
	}
	answer, err := c.conversation.Step(string(challenge))
	if err != nil {
		return nil, errors.New("the server does not prove that it knows the password")
	}
	return []byte(answer), nil
}
