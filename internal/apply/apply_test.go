package apply

import (
	"strings"
	"testing"

	"kindredgate/internal/catalog"
)

func TestWhatChanged(t *testing.T) {
	warm, cold := 0.8, 0.2
	long := strings.Repeat("You are a cheerful harbour master. ", 5)
	for _, c := range []struct {
		name          string
		before, after any
		want          string
	}{
		{"nothing", catalog.Preset{Name: "a", Model: "m"}, catalog.Preset{Name: "a", Model: "m"}, ""},
		{"a number", catalog.Preset{Defaults: catalog.Defaults{Temperature: &cold}}, catalog.Preset{Defaults: catalog.Defaults{Temperature: &warm}}, "temperature 0.8 instead of 0.2"},
		{"what was not there", catalog.Preset{}, catalog.Preset{Defaults: catalog.Defaults{Temperature: &warm}}, "temperature 0.8 instead of null"},
		{"a long text is not repeated", catalog.Preset{}, catalog.Preset{Instructions: long}, "instructions"},
		{"several, in their order", map[string]any{"b": 1, "a": 1}, map[string]any{"a": 2, "b": 2}, "a 2 instead of 1, b 2 instead of 1"},
		{"the same in another order", map[string]any{"limits": map[string]any{"x": 1, "y": 2}}, map[string]any{"limits": map[string]int{"y": 2, "x": 1}}, ""},
	} {
		got, err := differences(c.before, c.after)
		if err != nil || got != c.want {
			t.Errorf("%s: %q, %v; want %q", c.name, got, err, c.want)
		}
	}
}

// A name that has to be there before its keys are gives nobody what is meant for them.
func TestNamesBeforeTheirKeys(t *testing.T) {
	n := catalog.Name{Name: "pier", Of: []catalog.Target{{To: "a", Keys: []string{"clerk"}}, {To: "b"}}}
	first, some := without(n, func(named string) bool { return named == "clerk" })
	if !some || !first.Of[0].Drained || first.Of[0].Keys != nil || first.Of[1].Drained || n.Of[0].Drained || n.Of[0].Keys == nil {
		t.Errorf("%+v of %+v, %v", first, n, some)
	}
}
