package service_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/service"
)

const (
	userSchema   = `"urn:ietf:params:scim:schemas:core:2.0:User"`
	groupSchema  = `"urn:ietf:params:scim:schemas:core:2.0:Group"`
	signOnSchema = `"urn:brisk-warden:params:scim:schemas:SignOn"`
	patchSchema  = `"urn:ietf:params:scim:api:messages:2.0:PatchOp"`
)

// scim sends a request of a provisioning service, and gives the answer, which must have a status.
func (s *served) scim(want int, method, path, body string, change ...func(*http.Request)) map[string]any {
	s.Helper()
	status, header, text := s.ask("desk", method, "/scim/v2"+path, body, append([]func(*http.Request){func(r *http.Request) {
		if body != "" {
			r.Header.Set("Content-Type", "application/scim+json")
		}
	}}, change...)...)
	require.Equal(s, want, status, "%s %s: %s", method, path, text)
	if text == "" {
		return map[string]any{"etag": header.Get("ETag")}
	}
	require.Equal(s, "application/scim+json", header.Get("Content-Type"))
	var answer map[string]any
	require.NoError(s, json.Unmarshal([]byte(text), &answer), text)
	if status >= 400 {
		require.Equal(s, fmt.Sprint(want), answer["status"])
	}
	return answer
}

// user provisions a user, and gives the id of its resource.
func (s *served) user(name, more string) string {
	s.Helper()
	return s.scim(http.StatusCreated, "POST", "/Users", fmt.Sprintf(`{"schemas":[%s],"userName":%q%s}`, userSchema, name, more))["id"].(string)
}

func (s *served) group(name string, members ...string) string {
	s.Helper()
	list := make([]string, len(members))
	for i, m := range members {
		list[i] = fmt.Sprintf(`{"value":%q}`, m)
	}
	return s.scim(http.StatusCreated, "POST", "/Groups", fmt.Sprintf(`{"schemas":[%s],"displayName":%q,"members":[%s]}`, groupSchema, name, strings.Join(list, ",")))["id"].(string)
}

func patch(operations string) string {
	return fmt.Sprintf(`{"schemas":[%s],"Operations":[%s]}`, patchSchema, operations)
}

func TestProvisionedPeopleSignOn(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	const proof = `"session":{"id":"s1"},"presented":["password"]`
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof))
	methods := fmt.Sprintf(`,%s:{"methods":["password","passkey"]}`, signOnSchema)
	liv := s.user("liv", methods)
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof), "in no group")
	crew := s.group("crew", liv)
	require.Equal(t, "grant", s.outcome("web", "liv", "roster", proof))
	require.Equal(t, "block", s.outcome("web", "Liv", "roster", proof), "ids compare exactly")

	s.scim(http.StatusOK, "PATCH", "/Users/"+liv, patch(`{"op":"replace","path":"active","value":false}`))
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof))
	s.scim(http.StatusOK, "PATCH", "/Users/"+liv, patch(`{"op":"Replace","value":{"active":true}}`))
	require.Equal(t, "grant", s.outcome("web", "liv", "roster", proof))
	s.scim(http.StatusNoContent, "PATCH", "/Groups/"+crew, patch(fmt.Sprintf(`{"op":"remove","path":"members[value eq \"%s\"]"}`, liv)))
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof))
	outer := s.group("deck", liv)
	s.scim(http.StatusNoContent, "PATCH", "/Groups/"+crew, patch(fmt.Sprintf(`{"op":"add","path":"members","value":[{"value":%q}]}`, outer)))
	require.Equal(t, "grant", s.outcome("web", "liv", "roster", proof), "by a group in the group")
	s.scim(http.StatusOK, "PUT", "/Groups/"+crew, fmt.Sprintf(`{"schemas":[%s],"displayName":"crew","members":[]}`, groupSchema))
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof))
	s.scim(http.StatusOK, "PUT", "/Groups/"+outer, fmt.Sprintf(`{"schemas":[%s],"displayName":"deck-two","members":[{"value":%q}]}`, groupSchema, liv))
	s.scim(http.StatusOK, "PATCH", "/Groups/"+crew, patch(fmt.Sprintf(`{"op":"replace","path":"members","value":[{"value":%q}]}`, outer)))
	require.Equal(t, "grant", s.outcome("web", "liv", "roster", proof), "renamed")
	require.Equal(t, "deck-two", s.scim(http.StatusOK, "GET", "/Users/"+liv, "")["groups"].([]any)[0].(map[string]any)["display"])
	s.scim(http.StatusNoContent, "DELETE", "/Groups/"+outer, "")
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof))
	require.Nil(t, s.scim(http.StatusOK, "GET", "/Groups/"+crew, "")["members"])

	s.scim(http.StatusNoContent, "PATCH", "/Groups/"+crew, patch(fmt.Sprintf(`{"op":"add","path":"members","value":{"value":%q}}`, liv)))
	require.Equal(t, "grant", s.outcome("web", "liv", "roster", proof))
	s.scim(http.StatusNoContent, "DELETE", "/Users/"+liv, "")
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof))
	s.scim(http.StatusNotFound, "GET", "/Users/"+liv, "")
	again := s.user("liv", methods)
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof), "the same name is in no group of before")
	s.scim(http.StatusNoContent, "PATCH", "/Groups/"+crew, patch(fmt.Sprintf(`{"op":"add","path":"members","value":[{"value":%q}]}`, again)))
	require.Equal(t, "block", s.outcome("web", "liv", "roster", proof), "the session has ended with the user")
	require.Equal(t, "grant", s.outcome("web", "liv", "roster", `"session":{"id":"s2"},"presented":["password"]`))
}

// TestProvisioningBesideTheRulebook states of the rulebook's own people what it may, and what it may not.
func TestProvisioningBesideTheRulebook(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	body := func(name, more string) string {
		return fmt.Sprintf(`{"schemas":[%s],"userName":%q%s}`, userSchema, name, more)
	}
	s.scim(http.StatusForbidden, "POST", "/Users", body("root.key", ""))
	s.scim(http.StatusForbidden, "POST", "/Users", body("Root.Key", ""))
	require.Equal(t, "uniqueness", s.scim(http.StatusConflict, "POST", "/Users", body("ANN", ""))["scimType"])
	ann := s.user("ann", fmt.Sprintf(`,%s:{"methods":["smart-card"]}`, signOnSchema))
	require.Equal(t, "step-up", s.outcome("web", "ann", "vault", ""), "what the rulebook says stays")
	s.scim(http.StatusConflict, "POST", "/Users", body("Ann", ""))

	gone := s.user("gone", `,"active":true`)
	require.Equal(t, "block", s.outcome("web", "gone", "log", `"device":{"id":"d1"}`), "each lifts only its own")
	s.scim(http.StatusNoContent, "DELETE", "/Users/"+gone, "")
	require.Equal(t, "step-up", s.outcome("web", "ann", "roster", ""))
	s.scim(http.StatusNoContent, "DELETE", "/Users/"+ann, "")
	require.Equal(t, "block", s.outcome("web", "ann", "roster", ""), "it stays there, inactive")
	s.user("ann", "")
	require.Equal(t, "step-up", s.outcome("web", "ann", "roster", ""))

	s = serve(t, strings.Replace(ferryRules(), "user bob { groups crew", "attribute user.title word\nuser bob { type guest  risk low  joined 2024-02-01  attr title \"Mate\"  groups crew", 1), service.Options{})
	for _, more := range []string{`,"userType":"employee"`, `,"title":"Cook"`, fmt.Sprintf(`,%s:{"risk":"high"}`, signOnSchema)} {
		require.Contains(t, s.scim(http.StatusConflict, "POST", "/Users", body("bob", strings.Replace(more, `user bob { `, "", 1)))["detail"], "rulebook.warden", more)
	}
	bob := s.user("bob", fmt.Sprintf(`,"userType":"Contractor","title":"Mate",%s:{"risk":"low"}`, signOnSchema))
	s.scim(http.StatusConflict, "PATCH", "/Users/"+bob, patch(`{"op":"replace","path":"title","value":"Cook"}`))
	require.Equal(t, "Mate", s.scim(http.StatusOK, "GET", "/Users/"+bob, "")["title"])
}

// TestResources goes through what RFC 7643 and RFC 7644 ask of resources.
func TestResources(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{URL: "https://brisk.example"})
	// RFC 7644, 3.3, the example of a creation, with the password that is never told.
	created := s.scim(http.StatusCreated, "POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"bjensen","externalId":"bjensen",
	 "name":{"formatted":"Ms. Barbara J Jensen III","familyName":"Jensen","givenName":"Barbara"},"password":"t1meMa$heen","id":"mine","groups":[{"value":"x"}]}`)
	id := created["id"].(string)
	require.NotEqual(t, "mine", id)
	require.NotContains(t, created, "password")
	require.NotContains(t, created, "groups")
	meta := created["meta"].(map[string]any)
	require.Equal(t, "https://brisk.example/scim/v2/Users/"+id, meta["location"])
	require.Equal(t, "User", meta["resourceType"])

	// 3.4.1: retrieving, with its version.
	status, header, _ := s.ask("desk", "GET", "/scim/v2/Users/"+id, "")
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, meta["version"], header.Get("ETag"))
	s.scim(http.StatusNotModified, "GET", "/Users/"+id, "", func(r *http.Request) { r.Header.Set("If-None-Match", header.Get("ETag")) })

	// 3.5.2.1: adding to lists, with the primary value passing on.
	s.scim(http.StatusOK, "PATCH", "/Users/"+id, patch(`{"op":"add","value":{"emails":[{"value":"babs@jensen.example","type":"home","primary":true}],"nickname":"Babs"}}`))
	after := s.scim(http.StatusOK, "PATCH", "/Users/"+id, patch(`{"op":"add","path":"emails","value":[{"value":"b@work.example","type":"work","primary":true}]}`))
	require.Equal(t, "Babs", after["nickName"])
	emails := after["emails"].([]any)
	require.Len(t, emails, 2)
	require.NotContains(t, emails[0], "primary")
	// 3.5.2.3: replacing a part of what a filter selects; 3.5.2.2: removing it.
	after = s.scim(http.StatusOK, "PATCH", "/Users/"+id, patch(`{"op":"replace","path":"emails[type eq \"work\"].value","value":"bj@work.example"}`))
	require.Equal(t, "bj@work.example", after["emails"].([]any)[1].(map[string]any)["value"])
	require.Equal(t, "noTarget", s.scim(http.StatusBadRequest, "PATCH", "/Users/"+id, patch(`{"op":"replace","path":"emails[type eq \"none\"].value","value":"x"}`))["scimType"])
	after = s.scim(http.StatusOK, "PATCH", "/Users/"+id, patch(`{"op":"remove","path":"emails[type eq \"home\" and value ew \"jensen.example\"]"},{"op":"remove","path":"name.familyName"}`))
	require.Len(t, after["emails"], 1)
	require.NotContains(t, after["name"], "familyName")
	after = s.scim(http.StatusOK, "PATCH", "/Users/"+id, patch(`{"op":"add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department","value":"Deck"}`))
	require.Contains(t, after["schemas"], "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User")

	// 3.14: versions.
	old := func(r *http.Request) { r.Header.Set("If-Match", meta["version"].(string)) }
	s.scim(http.StatusPreconditionFailed, "PATCH", "/Users/"+id, patch(`{"op":"remove","path":"nickName"}`), old)
	s.scim(http.StatusPreconditionFailed, "DELETE", "/Users/"+id, "", old)
	s.scim(http.StatusPreconditionFailed, "DELETE", "/Users/"+id, "", func(r *http.Request) { r.Header.Set("If-Match", `W/"x"`) })

	// 3.5.1: replacing whole: what is not stated is gone; and a name stays.
	after = s.scim(http.StatusOK, "PUT", "/Users/"+id, fmt.Sprintf(`{"schemas":[%s],"userName":"BJENSEN","title":"Mate"}`, userSchema))
	require.Equal(t, "bjensen", after["userName"], "as it was first written")
	require.NotContains(t, after, "nickName")
	require.Equal(t, "mutability", s.scim(http.StatusBadRequest, "PUT", "/Users/"+id, fmt.Sprintf(`{"schemas":[%s],"userName":"other"}`, userSchema))["scimType"])
	require.Equal(t, "mutability", s.scim(http.StatusBadRequest, "PATCH", "/Users/"+id, patch(`{"op":"replace","path":"meta.created","value":"2020-01-01T00:00:00Z"}`))["scimType"])
}

// TestNothingOfAResourceIsPassedOver states what could be misread so that somebody stays in.
func TestNothingOfAResourceIsPassedOver(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	id := s.user("liv", "")
	for body, want := range map[string]string{
		`{"schemas":[%s],"userName":"x","actve":false}`:                               `did you mean "active"?`,
		`{"schemas":[%s],"userName":"x","active":"false"}`:                            "active is true or false",
		`{"schemas":[%s],"userName":"x","active":true,"Active":false}`:                "stands twice",
		`{"schemas":[%s],"userName":"x","active":true,"active":false}`:                "duplicate",
		`{"schemas":[%s],"userName":" x"}`:                                            "blanks",
		`{"schemas":[%s],"userName":""}`:                                              "userName is missing",
		`{"schemas":[%s]}`:                                                            "userName is missing",
		`{"schemas":[%s],"userName":"x","userType":"emploee"}`:                        "no type of user",
		`{"schemas":[%s],"userName":"x",` + signOnSchema + `:{"methods":["passky"]}}`: "no method",
		`{"schemas":[%s],"userName":"x",` + signOnSchema + `:{"risk":"huge"}}`:        "is one of none",
		`{"schemas":["urn:x"],"userName":"x"%.0s}`:                                    "has the schema",
		`null%.0s`: "found null",
		`[%.0s]`:   "expected an object",
	} {
		require.Contains(t, s.scim(http.StatusBadRequest, "POST", "/Users", fmt.Sprintf(body, userSchema))["detail"], want, body)
	}
	for operation, want := range map[string]string{
		`{"op":"replace","path":"actve","value":false}`: "no attribute actve",
		`{"op":"replace","path":"active","value":"no"}`: "active is true or false",
		`{"op":"replace","value":{"actve":false}}`:      "no attribute",
		`{"op":"set","path":"active","value":false}`:    "none of add",
		`{"op":"remove"}`:                                        "needs a path",
		`{"op":"replace","path":"active"}`:                       "needs a value",
		`{"op":"replace","path":"active[","value":false}`:        "cannot be read",
		`{"op":"replace","path":"groups","value":[]}`:            "not for a client to change",
		`{"op":"replace","path":"id","value":"x"}`:               "not for a client to change",
		`{"op":"remove","path":"userName"}`:                      "userName is missing",
		`{"op":"replace","path":"urn:x:y:active","value":false}`: "no schema",
	} {
		require.Contains(t, s.scim(http.StatusBadRequest, "PATCH", "/Users/"+id, patch(operation))["detail"], want, operation)
	}
	crew := s.group("crew")
	for _, member := range []string{"nobody", crew} {
		s.scim(http.StatusBadRequest, "PATCH", "/Groups/"+crew, patch(fmt.Sprintf(`{"op":"add","path":"members","value":[{"value":%q}]}`, member)))
	}
	require.Equal(t, "uniqueness", s.scim(http.StatusConflict, "POST", "/Groups", fmt.Sprintf(`{"schemas":[%s],"displayName":"crew"}`, groupSchema))["scimType"])
	s.scim(http.StatusBadRequest, "PATCH", "/Groups/"+crew, patch(fmt.Sprintf(`{"op":"remove","path":"members[value eq \"%s\"]"}`, id)))
}

// TestLists goes through filters and pages.
func TestLists(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	var ids []string
	for _, name := range []string{"liv", "Odd.Berg", "per"} {
		ids = append(ids, s.user(name, fmt.Sprintf(`,"displayName":%q,"active":%t,"emails":[{"value":"%s@x.example","type":"work"}]`, "The "+name, name != "per", name)))
	}
	s.group("night", ids[0])
	names := func(path string) string {
		var names []string
		answer := s.scim(http.StatusOK, "GET", path, "")
		for _, r := range answer["Resources"].([]any) {
			names = append(names, r.(map[string]any)["userName"].(string))
		}
		require.EqualValues(t, len(names), answer["itemsPerPage"])
		return strings.Join(names, " ")
	}
	of := func(filter string) string {
		return names("/Users?filter=" + strings.ReplaceAll(strings.ReplaceAll(filter, " ", "%20"), `"`, "%22"))
	}
	sorted := strings.Fields(names("/Users"))
	require.ElementsMatch(t, []string{"liv", "Odd.Berg", "per"}, sorted)
	for filter, want := range map[string]string{
		`userName eq "LIV"`: "liv", `userName eq "nobody"`: "", `userName sw "od"`: "Odd.Berg", `active eq false`: "per", `not (active eq true)`: "per",
		`emails[type eq "work" and value co "berg"]`: "Odd.Berg", `emails.value eq "per@x.example"`: "per", `emails co "liv@"`: "liv",
		`displayName eq "the per" or userName eq "liv" and active eq false`: "per", `title pr`: "", `groups.display eq "night"`: "liv",
		`meta.created gt "2020-01-01T00:00:00Z" and userName ne "liv" and active ne false`: "Odd.Berg",
		`urn:ietf:params:scim:schemas:core:2.0:User:userName eq "per"`:                     "per", `externalId eq null and userName eq "per"`: "per",
	} {
		require.Equal(t, want, of(filter), filter)
	}
	require.Equal(t, sorted[1], names("/Users?startIndex=2&count=1"))
	require.EqualValues(t, 3, s.scim(http.StatusOK, "GET", "/Users?count=0", "")["totalResults"])
	require.EqualValues(t, 1, s.scim(http.StatusOK, "GET", "/Users?startIndex=-4&count=-1", "")["startIndex"])
	for _, wrong := range []string{"filter=userName", "filter=usrName%20eq%20%22x%22", "filter=active%20gt%20true", "filter=name%20eq%20%22x%22", "count=x", "attributes=a%5B", "attributes=id&excludedAttributes=meta", "filter=" + strings.Repeat("(", 9000)} {
		s.scim(http.StatusBadRequest, "GET", "/Users?"+wrong, "")
	}
	one := s.scim(http.StatusOK, "GET", "/Users/"+ids[0]+"?attributes=userName,emails.value,meta.version", "")
	require.ElementsMatch(t, []string{"id", "schemas", "userName", "emails", "meta"}, keys(one))
	require.Equal(t, []any{map[string]any{"value": "liv@x.example"}}, one["emails"])
	require.NotContains(t, s.scim(http.StatusOK, "GET", "/Users/"+ids[0]+"?excludedAttributes=emails,id", ""), "emails")
	group := s.scim(http.StatusOK, "GET", `/Groups?filter=members.value%20eq%20%22`+ids[0]+`%22&excludedAttributes=members`, "")
	require.EqualValues(t, 1, group["totalResults"])
	require.NotContains(t, group["Resources"].([]any)[0], "members")
}

func keys(m map[string]any) (list []string) {
	for k := range m {
		list = append(list, k)
	}
	return list
}

// TestDiscovery reads what the service says of its resources, to those who may provision alone.
func TestDiscovery(t *testing.T) {
	s := serve(t, ferryRules(), service.Options{})
	config := s.scim(http.StatusOK, "GET", "/ServiceProviderConfig", "")
	require.Equal(t, map[string]any{"supported": true}, config["patch"])
	require.EqualValues(t, 2, s.scim(http.StatusOK, "GET", "/ResourceTypes", "")["totalResults"])
	require.Equal(t, "/Users", s.scim(http.StatusOK, "GET", "/ResourceTypes/User", "")["endpoint"])
	require.EqualValues(t, 4, s.scim(http.StatusOK, "GET", "/Schemas", "")["totalResults"])
	require.Equal(t, "SignOn", s.scim(http.StatusOK, "GET", "/Schemas/"+strings.Trim(signOnSchema, `"`), "")["name"])
	s.scim(http.StatusNotFound, "GET", "/Schemas/urn:x", "")
	s.scim(http.StatusForbidden, "GET", "/Schemas?filter=x", "")
	status, header, _ := s.ask("web", "GET", "/scim/v2/Users", "")
	require.Equal(t, http.StatusForbidden, status)
	require.Equal(t, "application/scim+json", header.Get("Content-Type"))
	s.scim(http.StatusUnsupportedMediaType, "POST", "/Users", "{}", func(r *http.Request) { r.Header.Set("Content-Type", "text/plain") })
}
