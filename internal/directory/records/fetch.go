package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

const (
	mostPage = 16 << 20    // bytes of an answer
	wait     = time.Minute // for an answer
)

// How often something is asked for, and how long is waited between at most and where the
// service does not say.
const (
	mostAttempts = 5
	mostPause    = 30 * time.Second
	usualPause   = time.Second
)

// A Client asks a service over HTTP.
type Client struct {
	HTTP   *http.Client
	Token  string // a bearer token (RFC 6750), or ""
	Accept string // a media type
}

// Get returns what is at a URL, and the header of the answer. A service that is asked too
// much, or is not there for a moment, is asked again after the time that it names (RFC 9110,
// section 10.2.3). Errors name the URL without its query.
func (c *Client) Get(ctx context.Context, from string) ([]byte, http.Header, error) {
	for attempt := 1; ; attempt++ {
		data, header, later, err := c.once(ctx, from)
		if later == 0 || attempt == mostAttempts {
			return data, header, err
		}
		select {
		case <-time.After(later):
		case <-ctx.Done():
			return nil, nil, context.Cause(ctx)
		}
	}
}

// once asks once. later is how long to wait before it is worth another try, or 0.
func (c *Client) once(ctx context.Context, from string) (data []byte, header http.Header, later time.Duration,
	err error) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	where, _, _ := strings.Cut(from, "?")
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return nil, nil, 0, fmt.Errorf("%s is no URL that can be asked", where)
	}
	request.Header.Set("Accept", c.Accept)
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	client := c.HTTP
	if client == nil {
		client = http.DefaultClient
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, nil, 0, unreached(ctx, where, err)
	}
	defer response.Body.Close()
	data, err = io.ReadAll(io.LimitReader(response.Body, mostPage+1))
	if err != nil {
		return nil, nil, 0, unreached(ctx, where, err)
	}
	if response.StatusCode != http.StatusOK {
		return nil, nil, retryAfter(response), fmt.Errorf("%s answers %s", where, secret.Hide(response.Status+detail(data)))
	}
	if len(data) > mostPage {
		return nil, nil, 0, fmt.Errorf("%s: the page is larger than %d MiB", where, mostPage>>20)
	}
	return data, response.Header, 0, nil
}

// retryAfter returns how long to wait before asking again, 0 where that is of no use.
func retryAfter(response *http.Response) time.Duration {
	if code := response.StatusCode; code != http.StatusTooManyRequests && code < 500 {
		return 0
	}
	pause := usualPause
	text := response.Header.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil && seconds >= 0 {
		pause = time.Duration(seconds) * time.Second
	} else if at, err := http.ParseTime(text); err == nil {
		pause = clock.Until(at)
	}
	return min(max(pause, time.Millisecond), mostPause)
}

// unreached says why an answer did not come.
func unreached(ctx context.Context, where string, err error) error {
	if asked, ok := errors.AsType[*url.Error](err); ok { // which would tell the whole URL once more
		err = asked.Err
	}
	switch {
	case errors.Is(ctx.Err(), context.Canceled), ctx.Err() != nil && !errors.Is(context.Cause(ctx),
		context.DeadlineExceeded):
		return context.Cause(ctx)
	case ctx.Err() != nil:
		return fmt.Errorf("%s: no answer within %v", where, wait)
	}
	return fmt.Errorf("%s cannot be reached: %s", where, endpoint.Reason(err))
}

// detail returns what an error of a service says, where SCIM (RFC 7644, section 3.12) and
// problem details (RFC 9457) have it.
func detail(data []byte) string {
	var message struct {
		Detail string `json:"detail"`
	}
	if json.Unmarshal(data, &message) != nil || message.Detail == "" {
		return ""
	}
	return ": " + message.Detail
}
