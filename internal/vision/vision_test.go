package vision

import (
	"encoding/json"
	"os"
	"testing"
)

// Sizes and tokens are those of the families' own rules, with the published settings and with tight ones.
func TestSizes(t *testing.T) {
	raw, err := os.ReadFile("testdata/sizes.json")
	if err != nil {
		t.Fatal(err)
	}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(raw, &all); err != nil {
		t.Fatal(err)
	}
	delete(all, "note")
	if len(all) < 7 {
		t.Fatal(len(all))
	}
	for name, raw := range all {
		var c struct {
			Factor  int
			Least   int `json:"min_pixels"`
			Most    int `json:"max_pixels"`
			Longest int `json:"longest_edge"`
			Short   int `json:"shortest_edge"`
			Size    int
			Patch   int
			Sizes   [][]*int
		}
		if err := json.Unmarshal(raw, &c); err != nil {
			t.Fatal(err)
		}
		r := Rule{Patch: c.Patch, Merge: 1}
		around := 2 // marks before and after
		switch {
		case c.Factor > 0:
			r = Rule{Fit: Smart, Patch: c.Factor / 2, Merge: 2, Least: c.Least, Most: c.Most}
		case c.Longest > 0:
			r.Fit, r.Side, r.Marks.Break, around = Longest, c.Longest, "|", 1
		case c.Short > 0:
			r.Fit, r.Side, around = Crop, c.Short, 0
		default:
			r.Side, r.Patch, r.Merge = c.Size, 14, 4
		}
		for _, s := range c.Sizes {
			p, err := r.Plan(*s[0], *s[1], 0)
			if s[2] == nil {
				if err == nil {
					t.Errorf("%s: %d × %d is read as %+v", name, *s[0], *s[1], p)
				}
				continue
			}
			if err != nil || p.Width != *s[2] || p.Height != *s[3] || p.Tokens() != *s[4] || r.Marks.All(p)+around != *s[5] {
				t.Errorf("%s: %d × %d is read as %+v, %d tokens of %d (%v); want %d × %d, %d of %d", name, *s[0], *s[1], p, p.Tokens(), r.Marks.All(p)+around, err, *s[2], *s[3], *s[4], *s[5])
			}
		}
	}
}

// A bound of tokens holds where the family leaves a choice.
func TestPlanKeepsToABound(t *testing.T) {
	for _, r := range []Rule{{Fit: Smart, Patch: 14, Merge: 2, Least: 3136, Most: 12845056}, {Fit: Longest, Side: 1540, Patch: 14, Merge: 2}} {
		for _, most := range []int{4, 256, 1280} {
			for _, s := range [][2]int{{4000, 3000}, {100, 90}, {3000, 20}} {
				if p, err := r.Plan(s[0], s[1], most); err != nil || p.Tokens() > most && p.Rows > 1 || p.Tokens() < 1 {
					t.Errorf("%+v: %v as %d tokens at the most: %+v, %v", r, s, most, p, err)
				}
			}
		}
	}
}

func TestWritten(t *testing.T) {
	p := Plan{Rows: 2, Columns: 3}
	for want, m := range map[string]Marks{
		"\n\n<s>......<e>\n\n": {Mark: "<s>", Before: "\n\n<s>", Token: ".", After: "<e>\n\n"},
		"...|...!":             {Mark: ".", Token: ".", Break: "|", After: "!"},
	} {
		if got := m.Written(p); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if r := (Rule{Places: true}); r.Saved(p) != 3 {
		t.Errorf("%d positions are saved", r.Saved(p))
	}
}
