package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/scim"
)

// scimBase is the path below which the resources are.
const scimBase = "/scim/v2"

const (
	mostSCIM      = 16 << 20 // bytes of a request
	scimPage      = 200      // resources of a page, at most
	mostBulk      = 10_000   // operations of a bulk request
	scimMediaType = "application/scim+json"
)

// provision serves the estate over SCIM 2.0 (RFC 7643, RFC 7644), and takes
// changes of its groups, for as long as the service runs.
type provision struct {
	post  *post
	mutex chan struct{} // one change at a time
}

// scimError is an answer that refuses (RFC 7644, section 3.12).
type scimError struct {
	status int
	kind   string // scimType, or ""
	text   string
}

func (e *scimError) Error() string { return e.text }

func badSCIM(kind, format string, args ...any) *scimError {
	return &scimError{http.StatusBadRequest, kind, fmt.Sprintf(format, args...)}
}

// handler returns what answers requests.
func (p *provision) handler() http.Handler {
	mux := http.NewServeMux()
	answer := func(pattern string, use func(*http.Request) (int, any, error)) {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" "+scimBase+path, func(w http.ResponseWriter, r *http.Request) { p.answer(w, r, use) })
	}
	answer("GET /ServiceProviderConfig", p.config)
	for _, kind := range []string{"Users", "Groups"} {
		answer("GET /"+kind, func(r *http.Request) (int, any, error) { return p.list(r, kind) })
		answer("GET /"+kind+"/{id}", func(r *http.Request) (int, any, error) { return p.get(r, kind) })
	}
	answer("PATCH /Groups/{id}", func(r *http.Request) (int, any, error) {
		return p.change(
			r,
			func(c *scimChange, data json.RawMessage) (any, error) { return c.patch(r.PathValue("id"), data) },
		)
	})
	answer("POST /Groups", func(r *http.Request) (int, any, error) {
		_, resource, err := p.change(
			r,
			func(c *scimChange, data json.RawMessage) (any, error) { return c.create(data) },
		)
		return http.StatusCreated, resource, err
	})
	answer("DELETE /Groups/{id}", func(r *http.Request) (int, any, error) {
		_, _, err := p.change(
			r,
			func(c *scimChange, _ json.RawMessage) (any, error) { return nil, c.remove(r.PathValue("id")) },
		)
		return http.StatusNoContent, nil, err
	})
	answer("POST /Bulk", func(r *http.Request) (int, any, error) {
		return p.change(r, func(c *scimChange, data json.RawMessage) (any, error) { return c.bulk(data) })
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		p.answer(w, r, func(*http.Request) (int, any, error) {
			return 0, nil, &scimError{http.StatusNotFound, "", "there is nothing at " + r.Method + " " + r.URL.Path}
		})
	})
	return mux
}

// answer asks for the token, and writes what a request comes to.
func (p *provision) answer(w http.ResponseWriter, r *http.Request, use func(*http.Request) (int, any, error)) {
	w.Header().Set("Content-Type", scimMediaType)
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	status, body, err := 0, any(nil), error(
		&scimError{http.StatusUnauthorized, "", "a bearer token is needed: the password of the stand-in"},
	)
	if p.post.knows(r.Context(), token) {
		r.Body = http.MaxBytesReader(w, r.Body, mostSCIM)
		status, body, err = use(r)
	} else {
		w.Header().Set("WWW-Authenticate", `Bearer realm="stand-in"`)
	}
	if err != nil {
		var refused *scimError
		if !errors.As(err, &refused) {
			refused = badSCIM("invalidValue", "%v", err)
		}
		status = refused.status
		message := map[string]any{
			"schemas": []string{scim.ErrorSchema},
			"status":  strconv.Itoa(status),
			"detail":  refused.text,
		}
		if refused.kind != "" {
			message["scimType"] = refused.kind
		}
		body = message
	}
	w.WriteHeader(status)
	if body != nil {
		_ = json.NewEncoder(w).Encode(body)
	}
}

func (p *provision) estate() *estate.Estate {
	p.post.mutex.Lock()
	defer p.post.mutex.Unlock()
	return p.post.r.Estate()
}

func (p *provision) config(*http.Request) (int, any, error) {
	supported := func(yes bool) map[string]any { return map[string]any{"supported": yes} }
	return http.StatusOK, map[string]any{
		"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"},
		"patch":   supported(true),
		"bulk":    map[string]any{"supported": true, "maxOperations": mostBulk, "maxPayloadSize": mostSCIM},
		"filter": map[string]any{
			"supported":  true,
			"maxResults": scimPage,
		},
		"changePassword": supported(false),
		"sort":           supported(false),
		"etag":           supported(false),
		"authenticationSchemes": []map[string]any{
			{"type": "oauthbearertoken", "name": "the password of the stand-in", "description": "RFC 6750"},
		},
	}, nil
}

// exporter writes the resources of the estate.
func exporter() *scim.Export { return &scim.Export{Map: directory.BuiltIn("scim")} }

// resources returns how many resources of a kind there are, and a function that
// makes one of them.
func resources(e *estate.Estate, kind string) (int, func(int) map[string]any) {
	x := exporter()
	if kind == "Users" {
		return e.People(), func(i int) map[string]any { return x.User(e, e.PersonID(i)) }
	}
	return e.Groups(), func(i int) map[string]any { return x.Group(e, estate.ID(i)) }
}

// list answers with a page of resources (RFC 7644, section 3.4.2). Of filters it
// takes ATTRIBUTE eq "VALUE", for what is one text.
func (p *provision) list(r *http.Request, kind string) (int, any, error) {
	query := r.URL.Query()
	start, count := number(query, "startIndex", 1), min(number(query, "count", scimPage), scimPage)
	total, one := resources(p.estate(), kind)
	start, count = min(max(start, 1), total+1), max(count, 0)
	page := []any{}
	if filter := query.Get("filter"); filter != "" {
		attribute, value, ok := parseEq(filter)
		if !ok {
			return 0, nil, badSCIM("invalidFilter", "of filters only ATTRIBUTE eq \"VALUE\" is taken, not %s", filter)
		}
		var found []any
		for i := range total {
			resource := one(i)
			for name, has := range resource {
				if text, isText := has.(string); isText && strings.EqualFold(name, attribute) &&
					strings.EqualFold(text, value) {
					found = append(found, resource)
				}
			}
		}
		total = len(found)
		page = append(page, found[min(start-1, total):min(start-1+count, total)]...)
	} else {
		for i := start - 1; i < min(start-1+count, total); i++ {
			page = append(page, one(i))
		}
	}
	return http.StatusOK, map[string]any{
		"schemas":      []string{scim.ListSchema},
		"totalResults": total,
		"startIndex":   start,
		"itemsPerPage": len(page),
		"Resources":    page,
	}, nil
}

func number(query url.Values, name string, otherwise int) int {
	if n, err := strconv.Atoi(query.Get(name)); err == nil {
		return n
	}
	return otherwise
}

// parseEq reads ATTRIBUTE eq "VALUE" (RFC 7644, section 3.4.2.2).
func parseEq(text string) (attribute, value string, ok bool) {
	attribute, rest, ok := strings.Cut(strings.TrimSpace(text), " ")
	if !ok || len(rest) < 3 || !strings.EqualFold(rest[:3], "eq ") {
		return "", "", false
	}
	err := json.Unmarshal([]byte(strings.TrimSpace(rest[3:])), &value)
	return attribute, value, err == nil
}

func (p *provision) get(r *http.Request, kind string) (int, any, error) {
	e := p.estate()
	id, ok := whose(e, r.PathValue("id"))
	switch {
	case ok && kind == "Users" && e.IsPerson(id):
		return http.StatusOK, exporter().User(e, id), nil
	case ok && kind == "Groups" && e.IsGroup(id):
		return http.StatusOK, exporter().Group(e, id), nil
	}
	return 0, nil, &scimError{
		http.StatusNotFound,
		"",
		"there is no resource " + r.PathValue("id") + " among the " + kind,
	}
}

// whose returns who has an identifier: the key of a main address.
func whose(e *estate.Estate, text string) (estate.ID, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return estate.None, false
	}
	id, ok := e.Exact(a)
	return id, ok && scim.ID(e, id) == a.Key()
}

// change has use make a change of the estate, and has the service take it, if it
// is one that an estate can have.
func (p *provision) change(r *http.Request, use func(*scimChange, json.RawMessage) (any, error)) (int, any, error) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return 0, nil, badSCIM("tooMany", "%v", err)
	}
	p.mutex <- struct{}{}
	defer func() { <-p.mutex }()
	c := newSCIMChange(p.estate())
	body, err := use(c, data)
	if err != nil {
		return 0, nil, err
	}
	if err := c.flush(); err != nil {
		return 0, nil, err
	}
	if c.changed {
		p.post.reload(c.e)
	}
	if id, ok := body.(changedGroup); ok {
		e := p.estate()
		if group, ok := whose(e, string(id)); ok {
			return http.StatusOK, exporter().Group(e, group), nil
		}
	}
	return http.StatusOK, body, nil
}

// changedGroup is the identifier of a group that an answer is to show as it is
// then.
type changedGroup string
