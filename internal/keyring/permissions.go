package keyring

import (
	"cmp"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/field"
)

// TermKind is how a term is said.
type TermKind int

// The kinds of terms.
const (
	TermText   TermKind = iota
	TermList            // of texts
	TermYes             // yes or no
	TermTime            // a time, or never
	TermChoice          // one of several words
	TermLimits          // limits, of [LimitKinds]
	TermLimitsByModel
)

// Term is what there is to know of one of a key's [Terms]: what is read, shown, compared and offered as an option comes from here.
type Term struct {
	Name    string // as in JSON; an option has dashes
	Title   string // for people
	Means   string // a phrase for the contract
	Help    string // of the option; as Means if it is empty
	Kind    TermKind
	Choices []string // of [TermChoice]; "" stands for what the settings say

	value func(t *Terms) any // a pointer to it
	show  func(t Terms) string
}

// TermKinds are all terms, in the order in which they are shown.
var TermKinds = []Term{
	{Name: "label", Title: "Label", Means: "what the key is for", value: func(t *Terms) any { return &t.Label }},
	{Name: "models", Title: "Models", Means: "models and presets that it may use; empty for all", Kind: TermList, value: func(t *Terms) any { return &t.Models }, show: func(t Terms) string { return orAll(t.Models) }},
	{Name: "endpoints", Title: "Styles", Means: "styles in which it may ask; empty for all", Kind: TermList, value: func(t *Terms) any { return &t.Endpoints }, show: func(t Terms) string { return orAll(t.Endpoints) }},
	{Name: "tools", Title: "Tools", Means: "tools that it may have the gate run: a server's name, SERVER/TOOL, * for all, remote for servers that requests name; empty for none", Help: "tools that it may have the gate run: SERVER, SERVER/TOOL, * for all, remote for servers that requests name", Kind: TermList, value: func(t *Terms) any { return &t.Tools }, show: func(t Terms) string { return cmp.Or(strings.Join(t.Tools, ", "), "none") }},
	{Name: "limits", Title: "Limits", Means: "limits for all models", Kind: TermLimits, value: func(t *Terms) any { return &t.Limits }, show: func(t Terms) string { return t.Limits.String() }},
	{Name: "limits_by_model", Title: "Limits by model", Means: "limits with single models or presets, besides", Kind: TermLimitsByModel, value: func(t *Terms) any { return &t.ByModel }, show: func(t Terms) string {
		var list []string
		for _, model := range sortedKeys(t.ByModel) {
			list = append(list, model+": "+t.ByModel[model].String())
		}
		return strings.Join(list, "; ")
	}},
	{Name: "origins", Title: "Browser origins", Means: "origins of pages that may use it from a browser; empty for those of the configuration", Help: "origins of pages that may use it from a browser, such as https://app.example", Kind: TermList, value: func(t *Terms) any { return &t.Origins }},
	{Name: "addresses", Title: "Addresses", Means: "addresses from which it may be used, and ranges such as 192.0.2.0/24; empty for all", Kind: TermList, value: func(t *Terms) any { return &t.Addresses }},
	{Name: "group", Title: "Group", Means: "the group whose limits hold besides, for all its keys together", Help: "the group whose limits hold besides, with those of its other keys; \"\" for none", value: func(t *Terms) any { return &t.Group }},
	{Name: "expires", Title: "Expires", Means: "when it expires; null for never", Help: "when it expires: a day such as 2031-01-31, a time from now such as 12h or 30d, or never", Kind: TermTime, value: func(t *Terms) any { return &t.Expires }},
	{Name: "may_issue", Title: "Can create keys", Means: "whether it can create derived keys, which have at most its rights and expire within a day", Kind: TermYes, value: func(t *Terms) any { return &t.MayIssue }},
	{Name: "keep_alive", Title: "Keep alive", Means: "whether whole answers begin with white space once the first token is there, for clients that give up on silence", Kind: TermYes, value: func(t *Terms) any { return &t.KeepAlive }},
	{Name: "record_content", Title: "Recorded content", Means: "whether content is recorded; empty for what the settings say", Help: "whether content is recorded: yes, no, or as-set for what the settings say", Kind: TermChoice, Choices: []string{"", "yes", "no"}, value: func(t *Terms) any { return &t.Content }},
}

// Styles are names of styles as they are today, each as it was said or by what it is called now.
func Styles(list []string) []string {
	out := slices.Clone(list)
	for i, name := range out {
		if s, ok := dialect.Find(name); ok {
			out[i] = string(s)
		}
	}
	return out
}

func orAll(list []string) string {
	if len(list) == 0 {
		return "all"
	}
	return strings.Join(list, ", ")
}

// String writes the limits that bound something for a person; nothing if there are none.
func (l Limits) String() string {
	var list []string
	for kind, n := range l {
		if n > 0 {
			list = append(list, fmt.Sprintf("%d %s", n, LimitKinds[kind].Short))
		}
	}
	return strings.Join(list, ", ")
}

// Show is the term as people are shown it; empty if there is nothing to say.
func (k Term) Show(t Terms) string {
	if k.show != nil {
		return k.show(t)
	}
	switch v := k.value(&t).(type) {
	case *string:
		return *v
	case *[]string:
		return strings.Join(*v, ", ")
	case *[]netip.Prefix:
		return strings.Join(texts(*v), ", ")
	case *bool:
		if *v {
			return "yes"
		}
	case *time.Time:
		if !v.IsZero() {
			return v.Local().Format("2006-01-02 15:04")
		}
	case *Content:
		return string(*v)
	}
	return ""
}

func texts(list []netip.Prefix) (out []string) {
	for _, p := range list {
		out = append(out, p.String())
	}
	return out
}

// Read takes terms from a document; what is not in it stays as it is.
func (t *Terms) Read(o *field.Object) error {
	for _, k := range TermKinds {
		if !slices.Contains(o.Unread(), k.Name) { // a field that is null takes back what was said before
			continue
		}
		switch v := k.value(t).(type) {
		case *string:
			*v, _ = o.String(k.Name)
		case *Content:
			text, _ := o.String(k.Name)
			*v = Content(text)
		case *[]string:
			*v = o.Strings(k.Name)
			if k.Name == "endpoints" {
				*v = Styles(*v)
			}
		case *[]netip.Prefix:
			addresses, err := ParseAddresses(o.Strings(k.Name))
			if err != nil {
				return err
			}
			*v = addresses
		case *bool:
			*v = o.Bool(k.Name)
		case *Limits:
			if l := o.Object(k.Name); l != nil {
				v.Read(l)
			}
		case *map[string]Limits:
			by := map[string]Limits{}
			if all := o.Object(k.Name); all != nil {
				for _, model := range all.Unread() {
					if l := all.Object(model); l != nil {
						own := (*v)[model]
						own.Read(l)
						by[model] = own
					}
				}
				*v = by
			}
		case *time.Time:
			*v = time.Time{}
			if text, ok := o.String(k.Name); ok && text != "" {
				at, err := time.Parse(time.RFC3339, text)
				if err != nil {
					o.Fail(k.Name, "%s is %q; it must be a time such as 2030-01-31T12:00:00Z, or null for never", k.Name, text)
				}
				*v = at.UTC().Truncate(time.Second)
			}
		}
	}
	for _, name := range o.Unread() {
		o.Fail(name, "there is no field %q here", name)
	}
	return o.Err()
}

// Read takes limits from a document; those that are not in it stay as they are.
func (l *Limits) Read(o *field.Object) {
	for kind, k := range LimitKinds {
		if v := o.Int(k.Name, 0, mostLimit); v != nil {
			l[kind] = int(*v)
		}
	}
	for _, name := range o.Unread() {
		if _, err := LimitNamed(name); err != nil {
			o.Fail(name, "%s", err)
		}
	}
}

// Differences says in words which terms others have instead of these; empty if they are the same.
func (t Terms) Differences(other Terms) string {
	var list []string
	for _, k := range TermKinds {
		a, b := reflect.ValueOf(k.value(&t)).Elem(), reflect.ValueOf(k.value(&other)).Elem()
		if reflect.DeepEqual(a.Interface(), b.Interface()) || (a.Kind() == reflect.Slice || a.Kind() == reflect.Map) && a.Len() == 0 && b.Len() == 0 {
			continue
		}
		before, after := k.Show(t), k.Show(other)
		none := func(s string) string {
			if s == "" {
				return "none"
			}
			return s
		}
		list = append(list, fmt.Sprintf("%s %s instead of %s", strings.ToLower(k.Title), none(after), none(before)))
	}
	return strings.Join(list, ", ")
}

// Fact is what people are shown of a key.
type Fact struct {
	Title string `json:"title"`
	Text  string `json:"text"`
}

// Facts are what a key has to say to people, its label aside.
func (k Key) Facts(now time.Time) []Fact {
	list := []Fact{{"State", k.state(now)}}
	add := func(title, text string) {
		if text != "" {
			list = append(list, Fact{title, text})
		}
	}
	add("Created", k.Created.Local().Format("2006-01-02 15:04"))
	if k.LastUsed.IsZero() {
		add("Last used", "never")
	} else {
		add("Last used", k.LastUsed.Local().Format("2006-01-02 15:04"))
	}
	for _, term := range TermKinds {
		if term.Name != "label" {
			add(term.Title, term.Show(k.Terms))
		}
	}
	add("Derived from", keyed(k.Issuer))
	add("Follows", keyed(k.Follows))
	return list
}

func keyed(account string) string {
	if account == "" {
		return ""
	}
	return prefix + account + "…"
}

func (k Key) state(now time.Time) string {
	switch {
	case !k.Revoked.IsZero():
		return "revoked " + k.Revoked.Local().Format("2006-01-02 15:04")
	case k.Owner:
		return "valid, manages the gate"
	case !k.Expires.IsZero() && !now.Before(k.Expires):
		return "expired"
	}
	return "valid"
}
