package record

import (
	"encoding/json"
	"kindredgate/internal/placement"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

// The table has every field of a record's JSON, each once, and gives the value that JSON has.
func TestFieldsAreThoseOfTheRecord(t *testing.T) {
	full := Record{}
	v := reflect.ValueOf(&full).Elem()
	for i := range v.NumField() { // each has a value of its own
		switch f := v.Field(i); f.Kind() {
		case reflect.String:
			f.SetString(v.Type().Field(i).Name)
		case reflect.Int, reflect.Int64:
			f.SetInt(int64(i))
		case reflect.Bool:
			f.SetBool(true)
		case reflect.Float64:
			f.SetFloat(float64(i))
		case reflect.Slice:
			if f.Type().Elem().Kind() == reflect.String {
				f.Set(reflect.ValueOf([]string{v.Type().Field(i).Name}))
			}
		}
	}
	full.Begun, full.Compared, full.Runs = time.Unix(1, 0).UTC(), &Comparison{Alike: 0.5}, []Run{{Server: "ferry", Name: "next_sailing"}}
	full.Placed = []placement.Estimate{{Target: "attic/harbour-4m", Total: 12}}
	raw, err := json.Marshal(full)
	if err != nil {
		t.Fatal(err)
	}
	var in map[string]any
	if err := json.Unmarshal(raw, &in); err != nil {
		t.Fatal(err)
	}
	for _, f := range Fields {
		want, ok := in[f.Name]
		if !ok {
			t.Errorf("the table has %q, which is not in the JSON, or is there twice", f.Name)
		}
		delete(in, f.Name)
		own, err := json.Marshal(f.Value(&full))
		if err != nil {
			t.Fatal(err)
		}
		if there, _ := json.Marshal(want); string(there) != canonical(t, own) {
			t.Errorf("%s is %s in the table, and %s in the JSON", f.Name, own, there)
		}
		if f.Means == "" || f.Empty(&full) || !f.Empty(&Record{}) || f.Cell(&full) == "" {
			t.Errorf("%s means %q, is %q", f.Name, f.Means, f.Cell(&full))
		}
	}
	if len(in) > 0 {
		t.Errorf("the table lacks %v", in)
	}
}

func canonical(t *testing.T, raw []byte) string {
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		t.Fatal(err)
	}
	out, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

func TestFilters(t *testing.T) {
	at := time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)
	r := Record{Key: "abcdefgh", Label: "bot", Model: "helper", Answered: "harbour-4m", Style: "chat", Job: "one", Begun: at, State: Failed, Took: 1500}
	done := r
	done.State = Done
	for _, c := range []struct {
		query string
		want  bool
	}{
		{"", true}, {"key=bot", true}, {"key=kg_abcdefgh", true}, {"key=kg_abcdefgh%E2%80%A6", true}, {"key=other", false},
		{"model=helper", true}, {"model=harbour-4m", true}, {"model=harbour", false}, {"style=chat", true}, {"style=raw", false}, {"style=completion", false}, {"job=one", true}, {"job=two", false},
		{"since=2031-05-01T12:00:00Z", true}, {"since=2031-05-01T12:00:01Z", false}, {"until=2031-05-01T12:00:00Z", false}, {"until=2031-05-01T12:00:01Z", true},
		{"bad=true", true}, {"slow_ms=1500", true}, {"slow_ms=1501", false}, {"bad=true&key=bot&slow_ms=2000", false},
	} {
		q, err := url.ParseQuery(c.query)
		if err != nil {
			t.Fatal(err)
		}
		f, err := ParseFilter(q)
		if err != nil || f.Matches(&r) != c.want {
			t.Errorf("%q chooses it: %v, %v", c.query, f.Matches(&r), err)
		}
		if again, err := ParseFilter(f.Query()); err != nil || !reflect.DeepEqual(again, f) {
			t.Errorf("%q comes back as %+v, not %+v; %v", c.query, again, f, err)
		}
		if f.Bad && f.Matches(&done) {
			t.Errorf("%q chooses an answer that is complete", c.query)
		}
	}
}

// What a style was called before is understood.
func TestFormerStyles(t *testing.T) {
	if f, err := ParseFilter(url.Values{"style": {"raw"}}); err != nil || f.Style != "completion" {
		t.Errorf("%+v, %v", f, err)
	}
}

func TestFacts(t *testing.T) {
	r := Record{Label: "bot", Key: "abcdefgh", Group: "crew", Model: "helper", Answered: "harbour-4m", State: Done, Reason: "length", PromptTokens: 12, CachedTokens: 3, Cost: 1500, Took: 12}
	said := map[string]string{}
	for _, f := range r.Facts() {
		said[f.Title] = f.Text
	}
	for title, want := range map[string]string{"Ended": "length limit reached", "Key": "bot  kg_abcdefgh…  group crew", "Model": "helper → harbour-4m", "Prompt": "12 tokens, 3 of them cached", "Cost": "0.001500", "Duration": "12 ms"} {
		if said[title] != want {
			t.Errorf("%s is %q, not %q", title, said[title], want)
		}
	}
	for _, absent := range []string{"Error", "Tool calls", "Compared", "Trace", "Drafts"} {
		if text, ok := said[absent]; ok {
			t.Errorf("%s is %q", absent, text)
		}
	}
	for state, want := range map[State]string{Open: "in progress", Refused: "refused: too_many", Done: "complete"} {
		if got := (&Record{State: state, Code: map[State]string{Refused: "too_many"}[state]}).Ended(); got != want {
			t.Errorf("%s is %q", state, got)
		}
	}
	if long := Short(strings.Repeat("x", 600)); len(long) > 510 {
		t.Errorf("a short text has %d bytes", len(long))
	}
	if !slices.Contains(States, Interrupted) {
		t.Error("a state is missing")
	}
}
