package connections

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

// fileOAuth says where tokens come from (RFC 6749).
type fileOAuth struct {
	TokenURL   string            `yaml:"token-url"`
	DeviceURL  string            `yaml:"device-url"`
	ClientID   string            `yaml:"client-id"`
	Secret     *secret.From      `yaml:"client-secret"`
	Refresh    *secret.From      `yaml:"refresh-token"`
	Scope      string            `yaml:"scope"`
	Parameters map[string]string `yaml:"parameters"`
}

// oauth gives tokens, and renews them: by a refresh token (RFC 6749, section 6), by a person
// who is asked once (RFC 8628), or else by the credentials of the client (section 4.4). Where
// its parameters name {address}, each mailbox has a token of its own.
type oauth struct {
	tokenURL, deviceURL, id, scope string
	secret, refresh                *secret.Text // nil: there is none
	parameters                     map[string]string

	mutex   sync.Mutex
	sources map[string]oauth2.TokenSource
}

const (
	oauthWait   = 20 * time.Second // for one answer
	mostOAuth   = 1 << 20          // bytes of one
	mostSources = 10_000
)

// oauth reads where tokens come from.
func (r *reader) oauth(list string, i int, f *fileOAuth) *oauth {
	o := &oauth{tokenURL: f.TokenURL, deviceURL: f.DeviceURL, id: f.ClientID, scope: f.Scope, parameters: f.Parameters,
		sources: map[string]oauth2.TokenSource{}}
	r.tokenURL(list, i, "token-url", f.TokenURL)
	if f.DeviceURL != "" {
		r.tokenURL(list, i, "device-url", f.DeviceURL)
	}
	if f.ClientID == "" {
		r.fail(list, i, "oauth needs client-id")
	}
	if f.Refresh != nil && f.DeviceURL != "" {
		r.fail(list, i, "oauth has either refresh-token or device-url")
	}
	for _, one := range []struct {
		from *secret.From
		into **secret.Text
	}{{f.Secret, &o.secret}, {f.Refresh, &o.refresh}} {
		if one.from == nil {
			continue
		}
		if err := one.from.Check(); err != nil {
			r.fail(list, i, "%v", err)
		}
		*one.into = new(secret.Text)
		r.locked = append(r.locked, locked{one.from, *one.into, r.place(list, i)})
	}
	if o.secret == nil && o.refresh == nil && o.deviceURL == "" {
		r.fail(list, i, "oauth needs client-secret, refresh-token or device-url")
	}
	return o
}

func (r *reader) tokenURL(list string, i int, name, text string) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !endpoint.IsLoopback(u.Host)) {
		r.fail(list, i, "%s is %q, expected a URL with https", name, text)
	}
}

// bounded is a transport whose answers end.
type bounded struct{ http.RoundTripper }

func (b bounded) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := b.RoundTripper.RoundTrip(request)
	if err == nil {
		response.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(response.Body, mostOAuth), response.Body}
	}
	return response, err
}

// client is the HTTP client for tokens: it follows nobody elsewhere.
var client = &http.Client{
	Timeout: oauthWait, Transport: bounded{http.DefaultTransport},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

func (o *oauth) config() *oauth2.Config {
	c := &oauth2.Config{ClientID: o.id, Scopes: strings.Fields(o.scope),
		Endpoint: oauth2.Endpoint{TokenURL: o.tokenURL, DeviceAuthURL: o.deviceURL}}
	if o.secret != nil {
		c.ClientSecret = o.secret.Reveal()
	}
	return c
}

// source returns what gives the tokens for an address.
func (o *oauth) source(a address.Address) (oauth2.TokenSource, error) {
	values := url.Values{}
	key := ""
	for name, text := range o.parameters {
		filled := fill(text, a)
		values.Set(name, filled)
		if filled != text {
			key = a.Key()
		}
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if s := o.sources[key]; s != nil {
		return s, nil
	}
	// A source outlives the one login that first asks it; the client bounds each answer.
	ctx := context.WithValue(context.Background(), oauth2.HTTPClient, client)
	var s oauth2.TokenSource
	switch {
	case o.refresh != nil:
		s = o.config().TokenSource(ctx, &oauth2.Token{RefreshToken: o.refresh.Reveal()})
	case o.deviceURL != "":
		return nil, errors.New("nobody has logged in yet")
	default:
		c := clientcredentials.Config{ClientID: o.id, TokenURL: o.tokenURL, Scopes: strings.Fields(o.scope),
			EndpointParams: values}
		c.ClientSecret = o.secret.Reveal()
		s = c.TokenSource(ctx)
	}
	if len(o.sources) < mostSources {
		o.sources[key] = s
	}
	return s, nil
}

// token returns a token that is good now.
func (o *oauth) token(ctx context.Context, a address.Address) (secret.Text, error) {
	s, err := o.source(a)
	if err != nil {
		return secret.Text{}, err
	}
	type result struct {
		token *oauth2.Token
		err   error
	}
	got := make(chan result, 1)
	go func() {
		t, err := s.Token()
		got <- result{t, err}
	}()
	select {
	case <-ctx.Done():
		return secret.Text{}, ctx.Err()
	case r := <-got:
		if r.err != nil {
			return secret.Text{}, o.problem(r.err)
		}
		return secret.New(r.token.AccessToken), nil
	}
}

// problem says why there is no token. What else servers say may hold secrets, and is left
// out.
func (o *oauth) problem(err error) error {
	host := o.tokenURL
	if u, parseErr := url.Parse(o.tokenURL); parseErr == nil {
		host = u.Host
	}
	if said, ok := errors.AsType[*oauth2.RetrieveError](err); ok {
		text := said.ErrorCode
		if text == "" && said.Response != nil {
			text = said.Response.Status
		}
		return fmt.Errorf("%s gives no token: %s", host, text)
	}
	if network, ok := errors.AsType[*url.Error](err); ok {
		return fmt.Errorf("%s gives no token: %s", host, endpoint.Reason(network.Err))
	}
	return fmt.Errorf("%s gives no token", host)
}

// ask has a person log in, where that is how tokens come (RFC 8628). tell gets what they
// have to do.
func (o *oauth) ask(ctx context.Context, tell func(text string)) error {
	if o.deviceURL == "" {
		return nil
	}
	o.mutex.Lock()
	_, there := o.sources[""]
	o.mutex.Unlock()
	if there {
		return nil
	}
	asking := context.WithValue(ctx, oauth2.HTTPClient, client)
	c := o.config()
	device, err := c.DeviceAuth(asking)
	if err != nil {
		return o.problem(err)
	}
	tell(fmt.Sprintf("to log in, open %s and enter the code %s", device.VerificationURI, device.UserCode))
	token, err := c.DeviceAccessToken(asking, device)
	if err != nil {
		return errors.Join(ctx.Err(), o.problem(err))
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.sources[""] = c.TokenSource(context.WithValue(context.Background(), oauth2.HTTPClient, client), token)
	return nil
}
