package keyring

import (
	"cmp"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"kindredgate/internal/exchange"
)

// Terms are what a key is for, and what it may: whoever has issued it can change them.
type Terms struct {
	Label     string
	Models    []string          // models and presets that it may use; none for all
	Endpoints []string          // styles in which it may ask, by their names; none for all
	Tools     []string          // tool servers (SERVER), their tools (SERVER/TOOL), "*" or RemoteTools, that it may have the gate run; none for none
	Limits    Limits            // in all
	ByModel   map[string]Limits // with single models and presets, besides
	Expires   time.Time         // zero for never
	Origins   []string          // of the pages that may use it from a browser; none for those of the configuration
	Addresses []netip.Prefix    // from which it may be used; none for all
	Group     string            // whose limits hold for it too, and with which its use is counted; "" for none
	MayIssue  bool              // whether it may issue keys that may less and end soon
	// KeepAlive has whole answers begin with white space once the first token is there, for clients and proxies that give up on silence.
	KeepAlive bool
	Content   Content // whether what is said is recorded
}

// RemoteTools stands, among a key's tools, for servers that a request names by their URL.
const RemoteTools = "remote"

// Content says whether what is said in exchanges is recorded.
type Content string

// What a key may say of that.
const (
	ContentAsSet Content = ""    // as the gate's settings have it
	ContentKept  Content = "yes" // it is recorded
	ContentNot   Content = "no"  // it never is
)

// Bounds of the lists in a key's terms, which are looked through at each request.
const (
	mostEntries = 64
	longEntry   = 256 // bytes
)

// check reports what is wrong with terms, as an [exchange.Error]. It tidies the label up.
func (t *Terms) check() error {
	for _, list := range []struct {
		param string
		n     int
		texts []string
	}{{"models", len(t.Models), t.Models}, {"endpoints", len(t.Endpoints), t.Endpoints}, {"tools", len(t.Tools), t.Tools}, {"origins", len(t.Origins), t.Origins}, {"addresses", len(t.Addresses), nil}, {"limits_by_model", len(t.ByModel), sortedKeys(t.ByModel)}} {
		if list.n > mostEntries {
			return exchange.InvalidParam(list.param, "%s has %d entries; a key may have %d", list.param, list.n, mostEntries)
		}
		for i, text := range list.texts {
			if len(text) > longEntry {
				return exchange.InvalidParam(list.param, "%s[%d] has %d bytes; %d are possible", list.param, i, len(text), longEntry)
			}
		}
	}
	t.Label = strings.TrimSpace(t.Label)
	if !printable(t.Label) {
		return exchange.InvalidParam("label", "a key needs a label of 1 to 100 printable characters, to tell it from the others")
	}
	if err := t.Limits.check("limits."); err != nil {
		return err
	}
	for _, name := range sortedKeys(t.ByModel) {
		if err := t.ByModel[name].check("limits_by_model." + name + "."); err != nil {
			return err
		}
		if !t.MayUse(name) {
			return exchange.InvalidParam("limits_by_model", "there are limits for model %q, which the key may not use", name)
		}
	}
	for i, name := range t.Tools {
		if !toolForm.MatchString(name) {
			return exchange.InvalidParam("tools", "tools[%d] is %q; it must be a tool server's name, SERVER/TOOL, \"*\" for all of the gate's, or %q for servers that requests name", i, name, RemoteTools)
		}
	}
	switch t.Content {
	case ContentAsSet, ContentKept, ContentNot:
	default:
		return exchange.InvalidParam("record_content", "record_content is %q; it is yes, no, or empty for what the settings say", t.Content)
	}
	for i, o := range t.Origins {
		if u, err := url.Parse(o); err != nil || u.Scheme == "" || u.Host == "" || u.Path != "" || u.RawQuery != "" {
			return exchange.InvalidParam("origins", "origins[%d] is %q; an origin is a scheme and a host, such as https://app.example", i, o)
		}
	}
	return nil
}

var toolForm = regexp.MustCompile(`^(\*|[a-z0-9][a-z0-9._-]{0,31}(/[A-Za-z0-9_./-]{1,128})?)$`)

// printable says whether something may be called so.
func printable(name string) bool {
	return name != "" && len(name) <= 100 && !strings.ContainsFunc(name, func(c rune) bool { return !unicode.IsPrint(c) })
}

func sortedKeys[V any](m map[string]V) (keys []string) {
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// longChild is how long a key may live that another key issued.
const longChild = 24 * time.Hour

// under makes terms those of a key that one with terms p issues: what they leave open is as it is there. The error says what would be
// more than p has.
func (t *Terms) under(p Terms, now time.Time) error {
	wider := func(param, what string) error {
		return exchange.Errorf(exchange.Forbidden, "wider_than_issuer", "%s would let the new key do more than the key %q that issues it: %s", param, p.Label, what)
	}
	if t.MayIssue {
		return wider("may_issue", "keys that were issued by keys issue none")
	}
	if t.Group != "" && t.Group != p.Group {
		return wider("group", "its group is that of the issuer")
	}
	if t.Content != ContentAsSet && t.Content != p.Content {
		return wider("record_content", "it is as the issuer has it")
	}
	t.Group, t.Content, t.KeepAlive = p.Group, p.Content, t.KeepAlive || p.KeepAlive
	for _, list := range []struct {
		param        string
		mine, theirs *[]string
	}{{"models", &t.Models, &p.Models}, {"endpoints", &t.Endpoints, &p.Endpoints}, {"origins", &t.Origins, &p.Origins}} {
		if len(*list.theirs) == 0 {
			continue
		}
		if len(*list.mine) == 0 {
			*list.mine = slices.Clone(*list.theirs)
		}
		for _, one := range *list.mine {
			if !slices.Contains(*list.theirs, one) {
				return wider(list.param, fmt.Sprintf("%q is not among those of the issuer (%s)", one, strings.Join(*list.theirs, ", ")))
			}
		}
	}
	if len(p.Addresses) > 0 {
		if len(t.Addresses) == 0 {
			t.Addresses = slices.Clone(p.Addresses)
		}
		for _, a := range t.Addresses {
			if !slices.ContainsFunc(p.Addresses, func(r netip.Prefix) bool { return r.Bits() <= a.Bits() && r.Contains(a.Addr()) }) {
				return wider("addresses", fmt.Sprintf("%s is not within those of the issuer", a))
			}
		}
	}
	for _, name := range t.Tools {
		if server, one, _ := strings.Cut(name, "/"); !hasTool(p.Tools, server, one) {
			return wider("tools", fmt.Sprintf("%q is not among those of the issuer (%s)", name, cmp.Or(strings.Join(p.Tools, ", "), "none")))
		}
	}
	last := now.Add(longChild)
	if !p.Expires.IsZero() && p.Expires.Before(last) {
		last = p.Expires
	}
	if t.Expires.IsZero() || t.Expires.After(last) {
		return wider("expires", fmt.Sprintf("it must be said, and be no later than %s", last.UTC().Format(time.RFC3339)))
	}
	return nil
}

// hasTool reports whether a list of tools has one, or, where no tool is named, all of a server.
func hasTool(list []string, server, one string) bool {
	return slices.Contains(list, "*") && server != RemoteTools || slices.Contains(list, server) || one != "" && slices.Contains(list, server+"/"+one)
}

// MayUse reports whether the key may use a model.
func (t Terms) MayUse(model string) bool {
	return len(t.Models) == 0 || slices.Contains(t.Models, model)
}

// MayAsk returns an error if the key may not be used in a style.
func (t Terms) MayAsk(style string) error {
	if len(t.Endpoints) == 0 || slices.Contains(t.Endpoints, style) {
		return nil
	}
	return exchange.Errorf(exchange.Forbidden, "endpoint_not_allowed", "the key %q may not ask in the %s style; it may in: %s", t.Label, style, strings.Join(t.Endpoints, ", "))
}

// MayCome returns an error if the key may not be used from an address, or by a page of an origin; that is empty where no page asks.
func (t Terms) MayCome(address, origin string) error {
	if len(t.Addresses) > 0 {
		a, err := netip.ParseAddr(address)
		if err != nil || !slices.ContainsFunc(t.Addresses, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) }) {
			return exchange.Errorf(exchange.Forbidden, "address_not_allowed", "the key %q may not be used from %s; its owner can change that with \"kindred keys change\"", t.Label, cmp.Or(address, "there"))
		}
	}
	if origin != "" && len(t.Origins) > 0 && !slices.Contains(t.Origins, origin) {
		return exchange.Errorf(exchange.Forbidden, "origin_not_allowed", "the key %q may not be used by pages of %s; its owner can change that with \"kindred keys change\"", t.Label, origin)
	}
	return nil
}

// ParseAddresses reads addresses and ranges of them, as 192.0.2.7 and 192.0.2.0/24.
func ParseAddresses(list []string) (all []netip.Prefix, err error) {
	for _, text := range list {
		p, err := netip.ParsePrefix(text)
		if a, single := netip.ParseAddr(text); single == nil {
			p, err = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
		}
		if err != nil {
			return nil, exchange.InvalidParam("addresses", "%q is no address, nor a range of them such as 192.0.2.0/24", text)
		}
		all = append(all, p.Masked())
	}
	return all, nil
}

// span is how a limit's time is said.
func span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(max(1, (d+time.Second-1)/time.Second)))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int((d+time.Minute-1)/time.Minute))
	}
	return fmt.Sprintf("%d h %d min", int(d/time.Hour), int(d%time.Hour/time.Minute))
}
