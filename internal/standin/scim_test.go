package standin_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/standin"
)

const (
	patchOp = `{"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [%s]}`
	group   = "/Groups/crew@kelp.example"
	mailURN = "urn:yorvet.example:scim:schemas:MailGroup:1.0"
)

// provisioned starts a service and returns a function that asks it over SCIM.
func provisioned(t *testing.T) func(method, path, body, token string) (int, map[string]any) {
	t.Helper()
	r := sample.Load(t, "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example, name: Ann, attributes: {title: mate}}, {address: bob@kelp.example, mailbox: closed}]\n"+
		"groups:\n- {address: crew@kelp.example, title: Crew, gate: [admit members], members: [{address: ann@kelp.example, copy: digest}]}\n- {address: all@kelp.example, members: [crew@kelp.example, {everyone: true}]}\n")
	s, err := standin.Start(standin.Options{Estate: r.Estate(), Secret: "tide"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return func(method, path, body, token string) (int, map[string]any) {
		t.Helper()
		request, err := http.NewRequest(method, s.Ready().SCIM+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+token)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		if kind := response.Header.Get("Content-Type"); kind != "application/scim+json" {
			t.Errorf("%s %s is answered as %q", method, path, kind)
		}
		if asks := response.Header.Get("WWW-Authenticate") != ""; asks != (response.StatusCode == http.StatusUnauthorized) {
			t.Errorf("%s %s: %d, and a token is asked for: %v", method, path, response.StatusCode, asks)
		}
		defer response.Body.Close()
		data, _ := io.ReadAll(response.Body)
		var answer map[string]any
		if len(data) > 0 && json.Unmarshal(data, &answer) != nil {
			t.Fatalf("%s %s: no JSON: %s", method, path, data)
		}
		return response.StatusCode, answer
	}
}

func values(group map[string]any) string {
	var list []string
	members, _ := group["members"].([]any)
	for _, one := range members {
		list = append(list, one.(map[string]any)["value"].(string))
	}
	return strings.Join(list, " ")
}

// Requests change groups as RFC 7644 says, and what cannot be is refused with the
// status and the kind that it names.
func TestSCIM(t *testing.T) {
	ask := provisioned(t)
	patch := func(operations string) string { return fmt.Sprintf(patchOp, operations) }
	for _, test := range []struct {
		method, path, body string
		status             int
		want               string // scimType, or part of the answer
	}{
		{"GET", "/Users?startIndex=2&count=1", "", 200, `"id":"bob@kelp.example"`},
		{"GET", "/Users?startIndex=9", "", 200, `"Resources":[]`},
		{"GET", `/Users?filter=userName+eq+"ANN@kelp.example"`, "", 200, `"totalResults":1`},
		{"GET", `/Users?filter=userName+sw+"a"`, "", 400, "invalidFilter"},
		{"GET", "/Users/bob@kelp.example", "", 200, `"active":false`},
		{"GET", "/Users/ann@kelp.example", "", 200, `"title":"mate"`},
		{"GET", "/Users/crew@kelp.example", "", 404, ""},
		{"GET", "/Elsewhere", "", 404, ""},
		{"GET", "/ServiceProviderConfig", "", 200, `"patch":{"supported":true}`},
		{"GET", "/ServiceProviderConfig", "", 200, `"changePassword":{"supported":false}`},
		{"GET", "/ServiceProviderConfig", "", 200, `"etag":{"supported":false}`},
		{"GET", "/ServiceProviderConfig", "", 200, `"sort":{"supported":false}`},
		{"GET", "/ServiceProviderConfig", "", 200, `"filter":{"maxResults":`},
		{"PATCH", group, patch(`{"op": "add", "path": "members", "value": [{"value": "bob@kelp.example"}, {"value": "ann@kelp.example"}]}`), 200, "ann@kelp.example bob@kelp.example"},
		{"PATCH", group, patch(`{"op": "Remove", "path": "members[value eq \"bob@kelp.example\"]"}`), 200, "ann@kelp.example"},
		{"PATCH", group, patch(`{"op": "remove", "path": "members[value eq \"bob@kelp.example\"]"}`), 400, "noTarget"},
		{"PATCH", group, patch(`{"op": "replace", "value": {"displayName": "The crew", "` + mailURN + `": {"about": "All hands"}}}`), 200, `"displayName":"The crew"`},
		{"PATCH", group, patch(`{"op": "replace", "path": "` + mailURN + `:rules", "value": ["where (title=mate)"]}`), 200, "where (title=mate)"},
		{"PATCH", group, patch(`{"op": "replace", "path": "` + mailURN + `:rules", "value": ["where ((title"]}`), 400, "invalidValue"},
		{"PATCH", group, patch(`{"op": "add", "path": "members", "value": [{"value": "nobody@kelp.example"}]}`), 400, "invalidValue"},
		{"PATCH", group, patch(`{"op": "add", "path": "colour", "value": "blue"}`), 400, "invalidPath"},
		{"PATCH", group, patch(`{"op": "paint", "path": "members"}`), 400, "invalidSyntax"},
		{"PATCH", group, `{"Operations": []}`, 400, "invalidSyntax"},
		{"PATCH", group, `{`, 400, "invalidSyntax"},
		{"PATCH", group, patch(`{"op": "replace", "path": "` + mailURN + `:address", "value": "ann@kelp.example"}`), 400, "invalidValue"},
		{"PATCH", "/Groups/none@kelp.example", patch(""), 404, ""},
		{"POST", "/Groups", `{"displayName": "Night", "members": [{"value": "ann@kelp.example"}], "` + mailURN + `": {"address": "night@kelp.example"}}`, 201, `"displayName":"Night"`},
		{"POST", "/Groups", `{"` + mailURN + `": {"address": "night@kelp.example"}}`, 409, "uniqueness"},
		{"POST", "/Groups", `{"displayName": "No address"}`, 400, "invalidValue"},
		{"POST", "/Bulk", `{"schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"], "Operations": [{"method": "DELETE", "path": "/Groups/night@kelp.example"}, {"method": "DELETE", "path": "/Groups/none@kelp.example"}]}`, 404, ""},
		{"GET", "/Groups/night@kelp.example", "", 200, "ann@kelp.example"}, // all of a bulk request, or nothing
		{"DELETE", "/Groups/night@kelp.example", "", 204, ""},
		{"GET", "/Groups/night@kelp.example", "", 404, ""},
		{"GET", "/Groups/all@kelp.example", "", 200, "everyone"},
	} {
		status, answer := ask(test.method, test.path, test.body, "tide")
		text, _ := json.Marshal(answer)
		if status != test.status || !strings.Contains(string(text)+values(answer), test.want) {
			t.Errorf("%s %s %s: %d %s, want %d with %s", test.method, test.path, test.body, status, text, test.status, test.want)
		}
	}
	if status, _ := ask("GET", "/Users", "", "ebb"); status != http.StatusUnauthorized {
		t.Errorf("with a wrong token: %d", status)
	}
	if status, _ := ask("PATCH", group, strings.Repeat(" ", 17<<20), "tide"); status != http.StatusBadRequest {
		t.Errorf("a huge request: %d", status)
	}
}
