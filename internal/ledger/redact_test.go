package ledger

import (
	"encoding/json"
	"log/slog"
	"regexp"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/record"
)

var berths = Redaction{[]*regexp.Regexp{regexp.MustCompile(`berth \d+`), regexp.MustCompile(`\b4711\b`)}}

// Wherever in a document it stands, and however it is written, what is to be taken out is: names of fields, numbers, values of schemas, texts that
// go over several parts, and what opens other servers. All else stays to the byte.
func TestWhatIsTakenOut(t *testing.T) {
	picture := `"data:image/png;base64,` + strings.Repeat("4711/", 100) + `"`
	for raw, want := range map[string]string{
		`{"a": "at berth 12!", "b": 4711, "seed": 4611686018427387905}`:                                                            `{"a":"at [redacted]!","b":"[redacted]","seed":4611686018427387905}`,
		`{"properties": {"berth 7": {"enum": ["berth 8", "quay"], "const": 4711}}}`:                                                `{"properties":{"[redacted]":{"const":"[redacted]","enum":["[redacted]","quay"]}}}`,
		`{"content": [{"type": "text", "text": "at ber"}, {"type": "text", "text": "th 1"}, {"type": "text", "text": "2, then"}]}`: `{"content":[{"text":"at [redacted]","type":"text"},{"text":"","type":"text"},{"text":", then","type":"text"}]}`,
		`{"prompt": ["ber", "th 12"]}`: `{"prompt":["[redacted]",""]}`,
		`{"messages": [{"role": "user", "content": "ber"}, {"role": "user", "content": "th 12"}]}`:                                     `{"messages": [{"role": "user", "content": "ber"}, {"role": "user", "content": "th 12"}]}`,
		`{"tools": [{"type": "mcp", "authorization": "zzz", "headers": {"X-Any": "zzz", "N": 1}, "server_url": "https://a.example"}]}`: `{"tools":[{"authorization":"[redacted]","headers":{"N":1,"X-Any":"[redacted]"},"server_url":"https://a.example","type":"mcp"}]}`,
		`{"api_key": "zzz", "X-Api-Key": "zzz", "clientSecret": "zzz"}`:                                                                `{"X-Api-Key":"[redacted]","api_key":"[redacted]","clientSecret":"[redacted]"}`,
		`{"properties": {"password": {"type": "string"}}, "max_tokens": 5}`:                                                            `{"properties": {"password": {"type": "string"}}, "max_tokens": 5}`,
		`{"a": "Authorization: Bearer abcdefgh12345678, and then", "b": "{\"api_key\": \"zzzz\"}"}`:                                    `{"a":"Authorization: Bearer [redacted], and then","b":"{\"api_key\": \"[redacted]\"}"}`,
		`{"url": ` + picture + `, "kept":   true}`:                                                                                     `{"url": ` + picture + `, "kept":   true}`,
		`{"headers": {"X-Any": "zzz"}, "headers": {}, "a": ":"}`:                                                                       `{"a":":","headers":{}}`,
		`{"password": 12345, "cookie": null}`:                                                                                          `{"cookie":null,"password":"[redacted]"}`,
		`"ber\u0074h 12"`:                                                                                                              `"[redacted]"`,
	} {
		if got := berths.Body([]byte(raw), 1<<21); got != want {
			t.Errorf("%s\nis %s\nwant %s", raw, got, want)
		}
	}
	for raw, want := range map[string]string{
		`{"a": "berth 12`:                                          `{"a": "[redacted]`,
		`{"headers": {"X-Any": "zzz`:                               `{"headers": {[redacted]`,
		`{"p\u0061ssword": "zzzz`:                                  `{"password": "[redacted]`,
		"The secret: early boats. My password is basic: none":      "The secret: early boats. My password is basic: none",
		"bearer, BEARER zzzzzzzzz and Basic\tYTpi, api-key='zzzz'": "bearer, BEARER [redacted] and Basic\tYTpi, api-key='[redacted]'",
		"password:password:zzzz":                                   "password:[redacted]",
		`{"a": "` + strings.Repeat("x", longestShown):              "(not shown: it is longer than 1 MB)",
		"a form: api_key=zzzzz&x=1":                                "a form: api_key=[redacted]&x=1",
		"kg_abcd1234abcdefghijklmno":                               "kg_abcd1234…",
	} {
		if got := berths.Body([]byte(raw), 1<<21); got != want {
			t.Errorf("%s is %s, want %s", raw, got, want)
		}
	}
}

// A prompt that came as tokens is not kept as such where something is taken out of the text that they stand for, or nobody can tell.
func TestTokenPromptsAreTakenOut(t *testing.T) {
	for _, c := range []struct {
		pieces []string
		tokens bool
		text   string
	}{
		{[]string{"at ber", "th 12."}, false, "at [redacted]."},
		{[]string{"at the quay."}, true, ""},
		{nil, false, redacted},
	} {
		req := exchange.Request{Model: "m", Raw: &exchange.Raw{Tokens: []int32{1, 2, 3}}}
		raw, err := req.Encode()
		if err != nil {
			t.Fatal(err)
		}
		content := kept.Content{Request: raw}
		for _, p := range c.pieces {
			content.Prompt = append(content.Prompt, kept.Piece{Text: p})
		}
		berths.content(&content)
		got, err := exchange.DecodeRequest(content.Request)
		if err != nil || got.Raw == nil || (len(got.Raw.Tokens) > 0) != c.tokens || got.Raw.Text != c.text {
			t.Errorf("%q: %s, %v", c.pieces, content.Request, err)
		}
		for _, p := range content.Prompt {
			if strings.Contains(p.Text, "12") {
				t.Errorf("%q: %+v", c.pieces, content.Prompt)
			}
		}
	}
	// In a recorder as in a gate.
	s := &shelf{list: map[string]kept.Content{}}
	k := NewRecorder(s, Recording{Space: 1 << 20, Redact: berths.Patterns}, laid, slog.New(slog.DiscardHandler))
	asked := exchange.Request{Model: "m", Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text("ber"), exchange.Text("th 12")}}}}
	said, err := asked.Encode()
	if err != nil {
		t.Fatal(err)
	}
	k.Keep(record.Record{ID: "x", Key: "k", Begun: time.Now()}, gate.Content{Request: said,
		Events: []exchange.Event{exchange.ToolCallDelta{Name: "book", Arguments: `{"at": "ber\u0074h 9", "password": "zzzz"}`}}})
	if err := k.Close(); err != nil {
		t.Fatal(err)
	}
	raw, err := json.Marshal(s.list["x"])
	if err != nil || strings.Contains(string(raw), "th 12") || strings.Contains(string(raw), "zzzz") || !strings.Contains(string(raw), `\"at\":\"[redacted]\"`) && !strings.Contains(string(raw), `\"at\": \"[redacted]\"`) {
		t.Errorf("%s, %v", raw, err)
	}
}

// Whatever is shown, it is without what is to be taken out, and taking that out once is enough.
func FuzzRedaction(f *testing.F) {
	for _, s := range []string{`{"a": "berth 12", "b": [{"text": "ber"}, {"text": "th 1"}], "api_key": "x"}`, "berth 1berth 2", `"ber\u0074h 4"`, "Bearer abcdefgh1234", `[["berth 1"], 4711]`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		once := berths.Body(raw, 1<<20)
		if berths.Patterns[0].MatchString(once) {
			t.Fatalf("%q is shown as %q", raw, once)
		}
		if again := berths.Body([]byte(once), 1<<20); again != once {
			t.Fatalf("%q is %q, and then %q", raw, once, again)
		}
	})
}
