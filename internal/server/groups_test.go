package server

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

func aye(*exchange.Request) []string { return []string{"Aye", ", ", "aye."} }

// What the keys of a group use counts together, whatever each may by itself.
func TestGroups(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	ask := func(key string, status int, says string) {
		t.Helper()
		if resp, body := h.do(t, "POST", "/v1/chat/completions", key, chatBody(false, "")); resp.StatusCode != status || !strings.Contains(body, says) {
			t.Errorf("%d %s, not %d with %q", resp.StatusCode, body, status, says)
		}
	}
	if resp, body := h.do(t, "POST", "/gate/keys", h.owner, `{"label":"one","group":"harbour"}`); resp.StatusCode != 400 || !strings.Contains(body, `there is no group \"harbour\"`) {
		t.Errorf("a key of no group: %d %s", resp.StatusCode, body)
	}
	h.do(t, "PUT", "/gate/groups", h.owner, `{"name":"harbour","limits":{"requests_per_day":3}}`)
	one, id := h.issueWith(t, `{"label":"one","group":"harbour","limits":{"requests_per_minute":2}}`)
	two, _ := h.issueWith(t, `{"label":"two","group":"harbour"}`)
	ask(one, 200, "")
	ask(one, 200, "")
	ask(one, 429, `the key \"one\" may use 2 requests a minute`)
	ask(two, 200, "")
	ask(two, 429, `the group \"harbour\" may use 3 requests a day`)
	_, body := h.do(t, "GET", "/gate/key", two, "")
	var own OwnKey
	if err := json.Unmarshal([]byte(body), &own); err != nil || own.Group != "harbour" || len(own.Standing) != 1 || own.Standing[0].Limit != 3 || own.Standing[0].Remaining != 0 {
		t.Errorf("its holder sees %s", body)
	}
	_, body = h.do(t, "GET", "/gate/groups", h.owner, "")
	var list GroupList
	if err := json.Unmarshal([]byte(body), &list); err != nil || len(list.Groups) != 1 || list.Groups[0].Standing[0].Remaining != 0 {
		t.Errorf("the groups: %s", body)
	}
	if resp, body := h.do(t, "DELETE", "/gate/groups?name=harbour", h.owner, ""); resp.StatusCode != 400 || !strings.Contains(body, "belongs to the group") {
		t.Errorf("a group with keys is removed: %d %s", resp.StatusCode, body)
	}
	h.do(t, "PUT", "/gate/groups", h.owner, `{"name":"harbour","limits":{}}`)
	ask(two, 200, "")
	h.do(t, "PATCH", "/gate/keys/"+id, h.owner, `{"group":null}`)
	h.do(t, "DELETE", "/gate/keys/two", h.owner, "")
	if resp, body := h.do(t, "DELETE", "/gate/groups?name=harbour", h.owner, ""); resp.StatusCode != 204 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "DELETE", "/gate/groups?name=harbour", h.owner, ""); resp.StatusCode != 404 {
		t.Errorf("removed twice: %d", resp.StatusCode)
	}
}

// Whoever holds a key that may issue others gives pages narrower ones, which end with it.
func TestKeysThatIssueKeys(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	backend, _ := h.issueWith(t, `{"label":"backend","may_issue":true,"endpoints":["chat","generate"],"addresses":["127.0.0.0/8"],"limits":{"requests_per_minute":2}}`)
	soon := time.Now().Add(10 * time.Minute).UTC().Format(time.RFC3339)
	issue := func(key, terms string) (*http.Response, string) {
		t.Helper()
		return h.do(t, "POST", "/gate/key/issue", key, terms)
	}
	for terms, param := range map[string]string{
		`{"label":"page"}`: "expires",
		`{"label":"page","expires":"` + time.Now().Add(25*time.Hour).UTC().Format(time.RFC3339) + `"}`: "expires",
		`{"label":"page","expires":"` + soon + `","endpoints":["chat","raw"]}`:                         "endpoints",
		`{"label":"page","expires":"` + soon + `","addresses":["127.0.0.1","10.0.0.1"]}`:               "addresses",
		`{"label":"page","expires":"` + soon + `","addresses":["0.0.0.0/0"]}`:                          "addresses",
		`{"label":"page","expires":"` + soon + `","may_issue":true}`:                                   "may_issue",
		`{"label":"page","expires":"` + soon + `","record_content":"yes"}`:                             "record_content",
		`{"label":"page","expires":"` + soon + `","group":"others"}`:                                   "group",
	} {
		if resp, body := issue(backend, terms); resp.StatusCode != 403 || !strings.Contains(body, "wider_than_issuer") || !strings.Contains(body, param+" would") {
			t.Errorf("%s: %d %s", terms, resp.StatusCode, body)
		}
	}
	if resp, body := issue(h.key, `{"label":"page","expires":"`+soon+`"}`); resp.StatusCode != 403 || !strings.Contains(body, "may_not_issue") {
		t.Errorf("a key that may not issue: %d %s", resp.StatusCode, body)
	}
	resp, body := issue(backend, `{"label":"page","expires":"`+soon+`","models":["harbour-4m"]}`)
	var page IssuedKey
	if err := json.Unmarshal([]byte(body), &page); err != nil || resp.StatusCode != 201 || strings.Join(page.Endpoints, " ") != "chat generate" || page.Issuer == "" {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if resp, body := issue(page.Key, `{"label":"x","expires":"`+soon+`"}`); resp.StatusCode != 403 {
		t.Errorf("an issued key issues: %d %s", resp.StatusCode, body)
	}
	for i, key := range []string{page.Key, backend, page.Key} {
		resp, body := h.do(t, "POST", "/v1/chat/completions", key, chatBody(false, ""))
		if want := map[bool]int{true: 200, false: 429}[i < 2]; resp.StatusCode != want {
			t.Errorf("call %d, whose use counts for both: %d %s", i, resp.StatusCode, body)
		}
	}
	// The one in the place of the issuer stands for it; when there is none any more, its keys end.
	_, body = h.do(t, "POST", "/gate/keys/backend/rotate", h.owner, `{"grace_seconds":0}`)
	var next RotatedKey
	if err := json.Unmarshal([]byte(body), &next); err != nil {
		t.Fatal(body)
	}
	if resp, body := h.do(t, "GET", "/gate/key", page.Key, ""); resp.StatusCode != 200 {
		t.Errorf("after the issuer was rotated: %d %s", resp.StatusCode, body)
	}
	h.do(t, "DELETE", "/gate/keys/"+next.ID, h.owner, "")
	if resp, body := h.do(t, "GET", "/gate/key", page.Key, ""); resp.StatusCode != 401 || !strings.Contains(body, "ended with the key that issued it") {
		t.Errorf("after the issuer was revoked: %d %s", resp.StatusCode, body)
	}
}
