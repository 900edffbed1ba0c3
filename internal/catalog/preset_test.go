package catalog

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/sampling"
)

func TestPresetApply(t *testing.T) {
	turn := func(role exchange.Role, text string) exchange.Turn {
		return exchange.Turn{Role: role, Parts: []exchange.Part{exchange.Text(text)}}
	}
	examples := []Example{{Role: exchange.User, Content: "Hi"}, {Role: exchange.Assistant, Content: "Ahoy!"}}
	for _, c := range []struct {
		name   string
		preset Preset
		turns  []exchange.Turn
		want   []string
	}{
		{"nothing", Preset{}, []exchange.Turn{turn("user", "q")}, []string{"user: q"}},
		{"instructions", Preset{Instructions: "i"}, []exchange.Turn{turn("user", "q")}, []string{"system: i", "user: q"}},
		{"instructions of both", Preset{Instructions: "i"}, []exchange.Turn{turn("system", "s"), turn("user", "q")}, []string{"system: i\n\ns", "user: q"}},
		{"examples", Preset{Examples: examples}, []exchange.Turn{turn("user", "q")}, []string{"user: Hi", "assistant: Ahoy!", "user: q"}},
		{"examples after the request's instructions", Preset{Examples: examples}, []exchange.Turn{turn("system", "s"), turn("user", "q")}, []string{"system: s", "user: Hi", "assistant: Ahoy!", "user: q"}},
		{"all", Preset{Instructions: "i", Examples: examples}, []exchange.Turn{turn("user", "q"), turn("system", "later")}, []string{"system: i", "user: Hi", "assistant: Ahoy!", "user: q", "system: later"}},
	} {
		req := &exchange.Request{Turns: c.turns}
		before := fmt.Sprint(c.turns)
		c.preset.Apply(req)
		var got []string
		for _, t := range req.Turns {
			got = append(got, string(t.Role)+": "+t.Text())
		}
		if !slices.Equal(got, c.want) || fmt.Sprint(c.turns) != before {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestReadDefaults(t *testing.T) {
	dir := t.TempDir()
	for doc, want := range map[string]string{
		`{"temperature": 0.2, "top_p": 0.95, "top_k": 40}`: "0.2 0.95 40",
		`{"do_sample": false, "temperature": 0.7}`:         "0 <nil> <nil>",
		`{}`:                      "<nil> <nil> <nil>",
		`{"temperature": "warm"}`: "error",
		`not JSON`:                "error",
	} {
		if err := os.WriteFile(dir+"/generation_config.json", []byte(doc), 0o644); err != nil {
			t.Fatal(err)
		}
		var d Defaults
		err := readBeside(dir+"/x.gguf", &d)
		show := func(v any) string {
			switch v := v.(type) {
			case *float64:
				if v != nil {
					return fmt.Sprint(*v)
				}
			case *int:
				if v != nil {
					return fmt.Sprint(*v)
				}
			}
			return "<nil>"
		}
		got := strings.Join([]string{show(d.Temperature), show(d.TopP), show(d.TopK)}, " ")
		if err != nil {
			got = "error"
		}
		if got != want {
			t.Errorf("%s: %s (%v), want %s", doc, got, err, want)
		}
	}
	if err := readBeside(t.TempDir()+"/x.gguf", &Defaults{}); err != nil {
		t.Errorf("no file: %v", err)
	}
}

func TestSlug(t *testing.T) {
	for name, want := range map[string]string{"Harbour 4M": "harbour-4m", "a.b_c": "a.b_c", "../etc/passwd": "etc-passwd", "Ünïcode": "n-code", "---": "", "": ""} {
		if got := slug(name); got != want {
			t.Errorf("%q becomes %q, want %q", name, got, want)
		}
	}
}

// What a preset says beyond sampling: some of it stands whatever a request says.
func TestPresetSettings(t *testing.T) {
	number := func(f float64) *float64 { return &f }
	on, off := true, false
	for _, c := range []struct {
		name   string
		preset Preset
		req    exchange.Request
		want   exchange.Request
	}{
		{"a request's own settings", Preset{Defaults: Defaults{Temperature: number(0.1), TopP: number(0.9)}}, exchange.Request{Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: number(1)}}}, exchange.Request{Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: number(1), TopP: number(0.9)}}}},
		{"fixed settings", Preset{Fixed: true, Defaults: Defaults{Temperature: number(0.1)}}, exchange.Request{Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: number(1), TopP: number(0.5)}}}, exchange.Request{Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: number(0.1), TopP: number(0.5)}}}},
		{"reasoning", Preset{Reasoning: &on}, exchange.Request{}, exchange.Request{Thinking: true}},
		{"no reasoning", Preset{Reasoning: &off}, exchange.Request{Thinking: true}, exchange.Request{}},
		{"reasoning as it is asked for", Preset{}, exchange.Request{Thinking: true}, exchange.Request{Thinking: true}},
		{"the longest answer", Preset{LongestAnswer: 50}, exchange.Request{}, exchange.Request{MaxTokens: 50}},
		{"a longer answer", Preset{LongestAnswer: 50}, exchange.Request{MaxTokens: 90}, exchange.Request{MaxTokens: 50}},
		{"a shorter answer", Preset{LongestAnswer: 50}, exchange.Request{MaxTokens: 9}, exchange.Request{MaxTokens: 9}},
		{"the context", Preset{Context: 512, DropOldest: true}, exchange.Request{}, exchange.Request{Context: 512, Truncate: true}},
	} {
		c.preset.Apply(&c.req)
		if got, want := fmt.Sprintf("%+v", flat(c.req)), fmt.Sprintf("%+v", flat(c.want)); got != want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, want)
		}
	}
	for _, bad := range []Preset{{Name: "a", Context: 10}, {Name: "a", Context: 100, LongestAnswer: 100}} {
		if err := bad.Check(); err == nil {
			t.Errorf("%+v is allowed", bad)
		}
	}
}

// flat is what there is to compare of a request.
func flat(r exchange.Request) []any {
	value := func(f *float64) any {
		if f == nil {
			return nil
		}
		return *f
	}
	return []any{value(r.Sampling.Temperature), value(r.Sampling.TopP), r.Thinking, r.MaxTokens, r.Context, r.Truncate}
}

// A strategy is read by what it was called before too, wherever it stood, and written by what it is called now.
func TestFormerStrategies(t *testing.T) {
	for raw, want := range map[string]Strategy{
		`{"name":"x","any":"fewest_open","of":[{"to":"m"}]}`: LeastBusy, `{"name":"x","any":"share","of":[{"to":"m"}]}`: Weighted, `{"name":"x","any":"prefix","of":[{"to":"m"}]}`: PrefixAffinity,
		`{"name":"x","strategy":"in_order","of":[{"to":"m"}]}`: InOrder, `{"name":"x","strategy":"prefix","of":[{"to":"m"}]}`: PrefixAffinity, `{"name":"x","of":[{"to":"m"}]}`: "",
	} {
		var n Name
		if err := json.Unmarshal([]byte(raw), &n); err != nil || n.Strategy != want || n.Check() != nil {
			t.Errorf("%s: %+v, %v", raw, n, err)
		}
		if out, err := json.Marshal(n); err != nil || strings.Contains(string(out), `"any"`) {
			t.Errorf("%s: %v", out, err)
		}
	}
}
