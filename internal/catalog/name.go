package catalog

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"kindredgate/internal/exchange"
)

// Name is a public name: what applications ask for, so that who operates the gate decides what answers.
type Name struct {
	Name string `json:"name"` // AnyName stands for every name that nothing else has
	// Strategy says how one is chosen of several targets that can answer.
	Strategy Strategy `json:"strategy,omitempty"`
	Of       []Target `json:"of"`
	Shadow   *Shadow  `json:"shadow,omitempty"`
}

// Strategy is how one of several targets is chosen.
type Strategy string

// The strategies. Whichever it is, only healthy targets are chosen that can do what the request needs, and the others follow where one fails
// before its first token.
const (
	InOrder        Strategy = "in_order"        // the first that can
	LeastBusy      Strategy = "least_busy"      // that with the fewest requests in progress
	Weighted       Strategy = "weighted"        // by chance, in proportion to the shares
	Placement      Strategy = "placement"       // that which is expected to finish first
	PrefixAffinity Strategy = "prefix_affinity" // that which has read the conversation so far, or the same instructions
)

// Strategies are all of them.
var Strategies = []Strategy{InOrder, LeastBusy, Weighted, PrefixAffinity, Placement}

// formerly are what strategies were called before.
var formerly = map[Strategy]Strategy{"fewest_open": LeastBusy, "share": Weighted, "prefix": PrefixAffinity}

// UnmarshalText reads a strategy, by what it was called before too.
func (s *Strategy) UnmarshalText(text []byte) error {
	*s = cmp.Or(formerly[Strategy(text)], Strategy(text))
	return nil
}

// UnmarshalJSON reads a name, in which the strategy may stand where it stood before.
func (n *Name) UnmarshalJSON(raw []byte) error {
	type plain Name
	both := struct {
		*plain
		Any Strategy `json:"any"`
	}{plain: (*plain)(n)}
	if err := json.Unmarshal(raw, &both); err != nil {
		return err
	}
	n.Strategy = cmp.Or(n.Strategy, both.Any)
	return nil
}

// Target is a model or preset that may answer under a name.
type Target struct {
	To      string `json:"to"`                // the model or preset
	Share   int    `json:"share,omitempty"`   // in proportion to those of the others; 0 counts as 1
	Drained bool   `json:"drained,omitempty"` // it gets nothing new; what runs there comes to its end
	// Keys are identifiers of keys, of the first where others came in its place, or groups: it is for these only, and ahead of targets for all.
	Keys []string `json:"keys,omitempty"`
	// Header is a header with its value, such as "x-tier: gold": it is for requests with that only, and ahead of targets for all.
	Header string `json:"header,omitempty"`
}

// AnyMachine begins a target that stands for a model on every machine that has it, such as */harbour-4m.
const AnyMachine = "*/"

// Shadow is a second target that a share of requests goes to as well. What it says is compared and never answered.
type Shadow struct {
	To    string  `json:"to"`
	Share float64 `json:"share"` // of requests, more than 0 and up to 1
}

// Single reports whether the name has one target and nothing else to it.
func (n Name) Single() bool {
	return len(n.Of) == 1 && n.Shadow == nil && !strings.HasPrefix(n.Of[0].To, AnyMachine) && !n.Of[0].Drained && n.Of[0].Keys == nil && n.Of[0].Header == ""
}

// Targets are the names of what may answer, the shadow's last.
func (n Name) Targets() (list []string) {
	for _, t := range n.Of {
		list = append(list, t.To)
	}
	if n.Shadow != nil {
		list = append(list, n.Shadow.To)
	}
	return list
}

// Said is the name's targets in words.
func (n Name) Said() string {
	var list []string
	for _, t := range n.Of {
		said := t.To
		if model, all := strings.CutPrefix(said, AnyMachine); all {
			said = model + " on any machine"
		}
		if n.Strategy == Weighted {
			said += fmt.Sprintf(" (%d)", max(1, t.Share))
		}
		if len(t.Keys) > 0 {
			said += " for " + strings.Join(t.Keys, " and ")
		}
		if t.Header != "" {
			said += " for " + t.Header
		}
		if t.Drained {
			said += " (drained)"
		}
		list = append(list, said)
	}
	said := list[0]
	if len(list) > 1 {
		said = map[Strategy]string{InOrder: "the first of ", LeastBusy: "the least busy of ", Weighted: "weighted, ", PrefixAffinity: "by prefix affinity, ", Placement: "the first to finish of "}[cmp.Or(n.Strategy, InOrder)] + strings.Join(list, ", ")
	}
	if s := n.Shadow; s != nil {
		said += fmt.Sprintf("; %g %% also to %s", s.Share*100, s.To)
	}
	return said
}

// AnyName is the public name that catches what is asked for under no other.
const AnyName = "*"

// NameRecords is where public names are kept. Name returns ErrNoName for one that is not there.
type NameRecords interface {
	PutName(ctx context.Context, n Name) error
	Name(ctx context.Context, name string) (Name, error)
	Names(ctx context.Context) ([]Name, error)
	DropName(ctx context.Context, name string) error
}

// ErrNoName says that there is no such public name.
var ErrNoName = errors.New("no such public name")

// Bounds of a public name.
const (
	longName    = 128 // bytes
	mostTargets = 32
	mostShare   = 1000
)

// Check reports what is wrong with a public name by itself, as an [exchange.Error].
func (n Name) Check() error {
	if n.Name == "" || len(n.Name) > longName || strings.ContainsFunc(n.Name, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }) {
		return exchange.InvalidParam("name", "a public name has 1 to %d printable characters without spaces; not %q", longName, n.Name)
	}
	if strings.Contains(n.Name, AnyName) && n.Name != AnyName {
		return exchange.InvalidParam("name", "%q has a star in it; a star alone is the name that catches all others", n.Name)
	}
	if len(n.Of) == 0 || len(n.Of) > mostTargets {
		return exchange.InvalidParam("of", "of has %d targets; 1 to %d are possible: the models or presets that are to answer", len(n.Of), mostTargets)
	}
	if n.Strategy != "" && !slices.Contains(Strategies, n.Strategy) {
		return exchange.InvalidParam("strategy", "strategy is %q; it must be one of %v", n.Strategy, Strategies)
	}
	seen := map[string]bool{}
	for i, t := range n.Of {
		at := func(field string) string { return fmt.Sprintf("of[%d].%s", i, field) }
		key := fmt.Sprint(t.To, t.Keys, t.Header)
		switch {
		case t.To == "":
			return exchange.InvalidParam(at("to"), "%s is missing: the model or preset that may answer", at("to"))
		case t.To == n.Name:
			return exchange.InvalidParam(at("to"), "the name %q cannot be its own target", n.Name)
		case seen[key]:
			return exchange.InvalidParam(at("to"), "%q is a target twice; a share says how often it is to be chosen", t.To)
		case t.Share < 0 || t.Share > mostShare:
			return exchange.InvalidParam(at("share"), "%s is %d; it must be from 1 to %d", at("share"), t.Share, mostShare)
		case t.Header != "":
			if name, value, ok := strings.Cut(t.Header, ":"); !ok || strings.TrimSpace(name) == "" || strings.TrimSpace(value) == "" {
				return exchange.InvalidParam(at("header"), "%s is %q; it must be a header with its value, such as \"x-tier: gold\"", at("header"), t.Header)
			}
		}
		seen[key] = true
	}
	if s := n.Shadow; s != nil && (s.To == "" || s.Share <= 0 || s.Share > 1) {
		return exchange.InvalidParam("shadow", "a shadow has a target and a share of requests, more than 0 and up to 1")
	}
	return nil
}
