// Package check looks for what goes wrong in practice, and says what to do about each. What a gate knows of itself is in [Facts];
// [Look] judges it. What can only be seen from where applications are, [Remote] looks at.
package check

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/config"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
)

// State is how something stands.
type State string

// The states, from the best.
const (
	OK      State = "ok"
	Warning State = "warning"
	Error   State = "error"
)

// Finding is what was found of one matter.
type Finding struct {
	Name   string `json:"name"`
	State  State  `json:"state"`
	Said   string `json:"said"`             // what is so
	Remedy string `json:"remedy,omitempty"` // what to do; empty if it is good
}

// Mishap is what kept requests from being taken, as often as it did.
type Mishap struct {
	Count int
	Last  string // what the last one said: a host, a path
	At    time.Time
}

// Disk is a folder on a disk.
type Disk struct {
	What, Path string
	Free       int64 // bytes; below 0 if that is not known
}

// Private is a file or folder that only its owner should be able to read.
type Private struct {
	Path string
	Mode fs.FileMode
}

// Socket is a Unix socket that the gate listens on.
type Socket struct {
	Path    string
	Missing bool // its file is not there any more
	Mode    fs.FileMode
}

// Facts are what a gate knows of itself.
type Facts struct {
	Now      time.Time
	Config   config.Config // that holds
	File     string
	Problem  string   // why the configuration file cannot be used
	Pending  []string // settings that wait for the next start
	Declared bool     // whether the file has something that takes effect only through "kindred apply"
	BaseURL  string

	Sockets          []Socket
	Certificate      *x509.Certificate // nil for none
	CertificateError string

	Keys          []keyring.Key
	Models        []catalog.Model
	ModelsProblem string // why models cannot be looked for
	Names         []catalog.Name
	Presets       []catalog.Preset
	Machines      []Machine
	Gates         []Gate // that share what they know; none for one that shares nothing
	Version       string // of this gate
	Tools         []Tools

	Bad     []record.Record   // that did not come to their end, of the last day
	Mishaps map[string]Mishap // by the codes of errors, since the start
	Longest time.Time         // when the last exchange began, by the ledger
	Lost    int               // exchanges that could not be kept

	Memory, Available int64 // bytes that models may take, and that the machine has free
	Processors        int
	Kernels           string
	Disks             []Disk
	Private           []Private
}

// Machine is another server that has models.
type Machine struct {
	Name, URL string
	Healthy   bool
	Seen      bool   // whether it has answered at all
	Why       string // it failed last
	Encrypted bool
	Models    []string

	// What follows is of machines that have joined.
	Joined  bool
	Program string            // its version
	Skew    time.Duration     // of its clock, ahead of the gate's
	Returns int               // after it had gone, in the last ten minutes
	Digests map[string]string // of its models' files, by the models' names
}

// Tools is a server of tools.
type Tools struct {
	Name    string
	Failed  string   // why it cannot be asked; "" if it can, or was not asked yet
	Skipped []string // tools that it lists and that cannot be offered
}

// list gathers findings.
type list []Finding

func (l *list) add(name string, s State, said, remedy string) {
	if s == OK {
		remedy = ""
	}
	*l = append(*l, Finding{name, s, said, remedy})
}

// Look judges what a gate knows of itself.
func Look(f Facts) []Finding {
	var l list
	f.settings(&l)
	f.address(&l)
	f.certificate(&l)
	f.strangers(&l)
	f.keys(&l)
	f.models(&l)
	f.machines(&l)
	f.fleet(&l)
	f.tools(&l)
	f.ledger(&l)
	f.machine(&l)
	return l
}

func (f Facts) settings(l *list) {
	switch {
	case f.Problem != "":
		l.add("configuration", Error, "the file cannot be used, so the gate goes on with what it had: "+f.Problem, "mend "+f.File+"; it is read again by itself")
	case len(f.Pending) > 0:
		l.add("configuration", Warning, "these settings changed and hold from the next start on: "+strings.Join(f.Pending, ", "), "restart the gate when that suits")
	default:
		l.add("configuration", OK, cmp.Or(f.File, "no file")+" holds", "")
	}
	if f.Declared {
		l.add("declarations", Warning, "the file declares names, presets or keys, which take effect only through \"kindred apply\"", "run \"kindred apply "+f.File+" --check\" to see what differs, or set apply_at_start: true")
	}
}

// beyond says whether an address can be reached from other machines.
func beyond(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false // a socket
	}
	ip := net.ParseIP(host)
	return host != "localhost" && (ip == nil || !ip.IsLoopback())
}

func (f Facts) address(l *list) {
	open := []string{}
	for _, a := range append([]string{f.Config.Listen}, f.Config.Network.Listen...) {
		if beyond(a) {
			open = append(open, a)
		}
	}
	secured := f.Config.Network.Certificate != "" || len(f.Config.Network.ACME.Hosts) > 0
	for _, s := range f.Sockets {
		switch {
		case s.Missing:
			l.add("socket", Error, "the socket "+s.Path+" is gone: its file was removed", "restart the gate, which makes it again")
		case s.Mode&0o002 != 0:
			l.add("socket", Warning, "everybody on this computer can open the socket "+s.Path, "chmod o-w "+s.Path)
		default:
			l.add("socket", OK, "programs that may open "+s.Path+" reach the gate", "")
		}
	}
	switch {
	case len(open) == 0:
		l.add("reach", OK, "only programs on this computer reach the gate, at "+f.BaseURL, "")
	case beyond(f.Config.Listen):
		l.add("reach", Warning, "the gate's own address, "+f.Config.Listen+", is open to other machines, and not encrypted: keys can be read on the way", "listen on 127.0.0.1, and give others an address in network.listen with a certificate (docs/exposing.md)")
	case !secured:
		l.add("reach", Warning, "other machines reach the gate at "+strings.Join(open, ", ")+", and the lines are not encrypted: keys can be read on the way", "set network.certificate and network.key, or network.acme")
	default:
		l.add("reach", OK, "other machines reach the gate at "+strings.Join(open, ", ")+", under TLS", "")
	}
	if f.Config.Access == config.Open {
		l.add("access", Warning, "access is open: every program on this computer may use the models, and the ledger cannot tell them apart", "set access: keys, and issue a key for each application")
	} else {
		l.add("access", OK, "applications need keys", "")
	}
	if u, err := url.Parse(f.BaseURL); err == nil && len(open) > 0 && f.Config.Network.BaseURL == "" {
		l.add("base URL", Warning, "applications are told "+f.BaseURL+", which other machines cannot use", "set network.base_url to the address that they have for this gate")
	} else if err == nil {
		l.add("base URL", OK, "applications are told "+u.String(), "")
	}
	for _, o := range f.Config.BrowserOrigins {
		if o == "*" {
			l.add("pages", Warning, "pages of every origin may use the gate from a browser", "name the origins in browser_origins")
		}
	}
}

// soon is how long before its end a certificate or a key is spoken of.
const (
	soonCertificate = 21 * 24 * time.Hour
	soonKey         = 7 * 24 * time.Hour
)

func (f Facts) certificate(l *list) {
	const name = "certificate"
	c := f.Certificate
	switch {
	case f.CertificateError != "":
		l.add(name, Error, f.CertificateError, "put a certificate and its key in their places; they are read by themselves")
		return
	case c == nil:
		return
	case f.Now.After(c.NotAfter):
		l.add(name, Error, "it expired on "+day(c.NotAfter), "put a new one in its place; it is read by itself")
		return
	case f.Now.Before(c.NotBefore):
		l.add(name, Error, "it is valid from "+day(c.NotBefore)+" on only", "check the clock of this machine, or get another certificate")
		return
	case c.NotAfter.Sub(f.Now) < soonCertificate:
		l.add(name, Warning, "it expires on "+day(c.NotAfter), "get a new one and put it in its place; it is read by itself")
		return
	}
	if u, err := url.Parse(f.Config.Network.BaseURL); err == nil && u.Scheme == "https" && c.VerifyHostname(u.Hostname()) != nil {
		l.add(name, Error, fmt.Sprintf("it is not for %s, by which applications call the gate, but for %s", u.Hostname(), strings.Join(c.DNSNames, ", ")), "get one for that name, unless a proxy ahead of the gate has its own")
		return
	}
	l.add(name, OK, "it is valid until "+day(c.NotAfter), "")
}

func day(t time.Time) string { return t.Format(time.DateOnly) }

// strangers are requests that did not get as far as a model.
func (f Facts) strangers(l *list) {
	seen := func(code, name, good, said, remedy string) {
		m, ok := f.Mishaps[code]
		if !ok {
			l.add(name, OK, good, "")
			return
		}
		l.add(name, Warning, fmt.Sprintf(said, times(m.Count), m.Last, m.At.Local().Format("15:04")), remedy)
	}
	seen("unknown_host", "host names", "nobody called the gate by a name that it does not know", "%s the gate was called by a name that it does not know, the last time %q at %s", "add the name to host_names, if it is one of the gate's")
	seen("unknown_path", "paths", "nobody asked for a path that there is not", "%s a path was asked for that there is not, the last time %s at %s; most such clients have the /v1 of the base URL missing or doubled", "give the application the base URL as it is: "+f.BaseURL)
	seen("invalid_api_key", "wrong keys", "nobody came with a key that is not valid", "%s somebody came with a key that is missing, mistyped, expired or revoked, the last time from %s at %s", "see \"kindred traffic refused\" for what they sent; \"kindred keys issue\" makes a key")
	seen("cross_origin", "other pages", "no page of another origin was turned away", "%s a page of another origin was turned away, the last time %s at %s", "name its origin in browser_origins, if it is yours")
	seen("origin_not_allowed", "browser origins", "no page asked from an origin that is not allowed", "%s a page of an origin that is not allowed asked, the last time %s at %s", "name its origin in browser_origins, or for a key with --origins, if it is yours")
	if m, ok := f.Mishaps["too_many_failures"]; ok {
		l.add("guessing", Warning, fmt.Sprintf("%s an address was turned away for guessing keys, the last time %s", times(m.Count), m.Last), "see that it cannot reach the gate")
	}
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func (f Facts) keys(l *list) {
	valid := 0
	var ending, over []string
	for _, k := range f.Keys {
		if k.Owner || !k.Revoked.IsZero() {
			continue
		}
		switch {
		case k.Expires.IsZero():
			valid++
		case f.Now.After(k.Expires):
			if f.Now.Sub(k.LastUsed) < soonKey && k.Issuer == "" {
				over = append(over, k.Label)
			}
		default:
			valid++
			if k.Expires.Sub(f.Now) < soonKey && k.Issuer == "" {
				ending = append(ending, k.Label+" on "+day(k.Expires))
			}
		}
	}
	switch {
	case len(over) > 0:
		l.add("keys", Error, "keys expired that were used within the last week: "+strings.Join(over, ", "), "prolong them with \"kindred keys change KEY --expires 90d\", or issue others")
	case len(ending) > 0:
		l.add("keys", Warning, "keys end within a week: "+strings.Join(ending, ", "), "\"kindred keys rotate\" gives the application another one in time")
	case valid == 0 && f.Config.Access != config.Open:
		l.add("keys", Warning, "no application has a key", "\"kindred keys issue --label NAME\" makes one")
	default:
		l.add("keys", OK, fmt.Sprintf("%d are valid", valid), "")
	}
	limited := map[string]int{}
	for _, e := range f.Bad {
		if e.Code == "rate_limit_exceeded" || e.Code == "budget_exceeded" {
			limited[e.Label]++
		}
	}
	if len(limited) > 0 {
		l.add("limits", Warning, "keys met their limits within a day: "+counted(limited), "\"kindred keys show KEY\" tells what is left, \"kindred keys change\" raises a limit")
	} else {
		l.add("limits", OK, "no key met its limits within a day", "")
	}
}

// counted lists what there is most of first, five at the most.
func counted(m map[string]int) string {
	names := slices.SortedFunc(maps.Keys(m), func(a, b string) int { return cmp.Or(m[b]-m[a], strings.Compare(a, b)) })
	var parts []string
	for _, n := range names[:min(5, len(names))] {
		parts = append(parts, fmt.Sprintf("%q %s", n, times(m[n])))
	}
	return strings.Join(parts, ", ")
}

// machines says how the other servers do.
func (f Facts) machines(l *list) {
	if len(f.Machines) == 0 {
		return
	}
	var bad, open, away []string
	for _, m := range f.Machines {
		switch {
		case m.Joined && !m.Healthy:
			away = append(away, fmt.Sprintf("%s (%s)", m.Name, m.Why))
		case !m.Healthy || !m.Seen:
			bad = append(bad, fmt.Sprintf("%s at %s (%s)", m.Name, m.URL, cmp.Or(m.Why, "not seen yet")))
		}
		if !m.Encrypted {
			open = append(open, m.Name)
		}
	}
	switch {
	case len(bad) > 0:
		l.add("machines", Error, "these are unreachable, or cannot be used: "+strings.Join(bad, "; "), "see that they run, and look at runners in the configuration; names with several targets go on with the others")
	case len(away) > 0:
		l.add("machines", Warning, "these have joined, and take no work now: "+strings.Join(away, "; "), "see that \"kindred join\" runs there and reaches this gate, or wait until their operators let them work again")
	case len(open) > 0:
		l.add("machines", Warning, "what is asked goes to these without encryption: "+strings.Join(open, ", "), "give them a certificate, and an address with https")
	default:
		l.add("machines", OK, fmt.Sprintf("%d are healthy", len(f.Machines)), "")
	}
}

// tools says how the servers of tools do, and whether there is one for what presets and keys name.
func (f Facts) tools(l *list) {
	known := map[string]bool{"*": true, keyring.RemoteTools: true}
	var bad, skipped, missing []string
	for _, t := range f.Tools {
		known[t.Name] = true
		if t.Failed != "" {
			bad = append(bad, t.Name+" ("+t.Failed+")")
		}
		if n := len(t.Skipped); n > 0 {
			skipped = append(skipped, fmt.Sprintf("%d of %s", n, t.Name))
		}
	}
	names := func(who string, tools []string) {
		for _, name := range tools {
			if server, _, _ := strings.Cut(name, "/"); !known[server] {
				missing = append(missing, fmt.Sprintf("%s of %s", name, who))
			}
		}
	}
	for _, p := range f.Presets {
		names("preset "+p.Name, p.Tools)
	}
	for _, k := range f.Keys {
		if k.Revoked.IsZero() {
			names("the key "+k.Label, k.Tools)
		}
	}
	switch {
	case len(bad) > 0:
		l.add("tools", Error, "these tool servers cannot be used: "+strings.Join(bad, "; "), "\"kindred tools check\" shows what they wrote last; look at tools in the configuration")
	case len(missing) > 0:
		l.add("tools", Warning, "no tool server has "+strings.Join(missing, ", "), "name the server under tools in the configuration, or take the tool away from the preset or key")
	case len(skipped) > 0:
		l.add("tools", Warning, "some tools cannot be offered: "+strings.Join(skipped, ", "), "\"kindred tools check\" says why")
	case len(f.Tools) > 0:
		l.add("tools", OK, fmt.Sprintf("%d tool servers are set up", len(f.Tools)), "")
	}
}

func (f Facts) models(l *list) {
	usable := map[string]bool{}
	var broken []string
	largest := catalog.Model{}
	for _, m := range f.Models {
		if m.Usable() {
			usable[m.ID] = true
			if m.Size > largest.Size {
				largest = m
			}
		} else if !m.Arriving {
			broken = append(broken, m.ID+": "+m.Problem)
		}
	}
	switch {
	case f.ModelsProblem != "":
		l.add("models", Error, "they cannot be looked for: "+f.ModelsProblem, "see that the folders of models.folders are there and can be read")
	case len(usable) == 0 && slices.ContainsFunc(f.Machines, func(m Machine) bool { return len(m.Models) > 0 }):
		l.add("models", OK, "none is installed here; machines have some", "")
	case len(usable) == 0:
		l.add("models", Error, "none is installed that can run", "\"kindred models add\" brings one")
	case len(broken) > 0:
		l.add("models", Warning, "some cannot run: "+strings.Join(broken, "; "), "\"kindred models show NAME\" says more; \"kindred models remove NAME\" removes one")
	default:
		l.add("models", OK, fmt.Sprintf("%d are installed and can run", len(usable)), "")
	}
	targets := maps.Clone(usable)
	for _, m := range f.Machines {
		for _, one := range m.Models {
			targets[m.Name+"/"+one] = true
			usable[m.Name+"/"+one] = true
			targets[catalog.AnyMachine+one] = true
			if m.Joined {
				usable[one], targets[one] = true, true
			}
		}
	}
	var lost []string
	for _, p := range f.Presets {
		targets[p.Name] = true
		if !usable[p.Model] {
			lost = append(lost, fmt.Sprintf("preset %s of model %s", p.Name, p.Model))
		}
	}
	for _, n := range f.Names {
		for _, to := range n.Targets() {
			if !targets[to] {
				lost = append(lost, fmt.Sprintf("name %q for %s", n.Name, to))
			}
		}
	}
	if len(lost) > 0 {
		l.add("names", Error, "these are for models that are not there: "+strings.Join(lost, ", "), "\"kindred names set\" and \"kindred presets change\" give them others")
	} else {
		l.add("names", OK, "presets and public names have their models", "")
	}
	asked, long := map[string]int{}, map[string]int{}
	for _, e := range f.Bad {
		switch e.Code {
		case "model_not_found":
			asked[e.Model]++
		case "context_length_exceeded":
			long[cmp.Or(e.Answered, e.Model)]++
		}
	}
	if len(asked) > 0 {
		l.add("asked names", Warning, "applications asked within a day for what is not installed: "+counted(asked), "\"kindred names set NAME MODEL\" has a model answer under a name, and \"*\" under all others")
	} else {
		l.add("asked names", OK, "what applications ask for is there", "")
	}
	if len(long) > 0 {
		l.add("context", Warning, "prompts were longer than the context within a day: with "+counted(long), "shorten the prompts, choose a model with a longer context, or let a preset drop the oldest turns (drop_oldest)")
	} else {
		l.add("context", OK, "prompts fit their contexts", "")
	}
	var flat []string
	for _, m := range f.Models {
		if m.Usable() && m.Use.Writes() && m.Template == nil {
			flat = append(flat, m.ID)
		}
	}
	if len(flat) > 0 {
		l.add("templates", Warning, "models without a chat template answer raw prompts only: "+strings.Join(flat, ", "), "make a preset with a template (\"kindred presets add --template FILE\")")
	} else {
		l.add("templates", OK, "models for chat have their templates", "")
	}
	switch need := largest.Size; {
	case need == 0:
	case f.Memory > 0 && need > f.Memory:
		l.add("memory", Error, fmt.Sprintf("%s has %s of weights, and models may take %s", largest.ID, size(need), size(f.Memory)), "raise models.memory, if the machine has more, or convert the model to smaller weights (\"kindred models convert\")")
	case f.Available > 0 && need > f.Available:
		l.add("memory", Warning, fmt.Sprintf("%s has %s of weights, and the machine has %s free", largest.ID, size(need), size(f.Available)), "close what takes memory, or expect slow first answers")
	default:
		l.add("memory", OK, fmt.Sprintf("models may take %s; the largest has %s", size(f.Memory), size(need)), "")
	}
}

func size(n int64) string {
	if n >= 1<<30 {
		return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
	}
	return fmt.Sprintf("%.0f MB", float64(n)/(1<<20))
}

// usualPatience are the times after which clients and proxies give up as they are usually set, in seconds.
var usualPatience = []float64{5, 10, 15, 20, 30, 60, 90, 100, 120, 180, 300, 600}

func (f Facts) ledger(l *list) {
	gaveUp := map[string]int{}
	for _, e := range f.Bad {
		if e.State != record.Cancelled {
			continue
		}
		for _, p := range usualPatience {
			if math.Abs(e.Took/1000-p) < 0.02*p+0.2 {
				gaveUp[fmt.Sprintf("%s after %g s", e.Label, p)]++
			}
		}
	}
	maps.DeleteFunc(gaveUp, func(_ string, n int) bool { return n < 3 })
	if len(gaveUp) > 0 {
		l.add("client patience", Warning, "clients leave after the same time again and again, as those do that have a time-out: "+counted(gaveUp), "raise the time-out of the client, let it stream, or give its key --keep-alive")
	} else {
		l.add("client patience", OK, "no client seems to give up for want of time", "")
	}
	if f.Lost > 0 {
		l.add("ledger", Error, fmt.Sprintf("%d exchanges could not be kept since the start", f.Lost), "make room on the disk of the data folder")
	} else {
		l.add("ledger", OK, "every exchange is kept", "")
	}
	if ahead := f.Longest.Sub(f.Now); ahead > time.Minute {
		l.add("clock", Error, fmt.Sprintf("the clock was set back: the ledger has an exchange of %s", f.Longest.Local().Format("2006-01-02 15:04")), "set the clock right; keys' ends and limits go by it")
	} else if f.Now.Year() < 2026 {
		l.add("clock", Error, "it is "+f.Now.Format(time.DateOnly)+", by the clock", "set the clock right; keys' ends and certificates go by it")
	} else {
		l.add("clock", OK, "it goes on from what the ledger has", "")
	}
}

// shortSpace is what a disk should have free, in bytes.
const shortSpace = 2 << 30

func (f Facts) machine(l *list) {
	for _, d := range f.Disks {
		switch {
		case d.Free < 0:
			l.add("disk of the "+d.What, Warning, "how much is free at "+d.Path+" cannot be told", "see that the folder is there")
		case d.Free < shortSpace/8:
			l.add("disk of the "+d.What, Error, size(d.Free)+" are free at "+d.Path, "make room")
		case d.Free < shortSpace:
			l.add("disk of the "+d.What, Warning, size(d.Free)+" are free at "+d.Path, "make room before it is full")
		default:
			l.add("disk of the "+d.What, OK, size(d.Free)+" are free", "")
		}
	}
	var open []string
	for _, p := range f.Private {
		if p.Mode.Perm()&0o077 != 0 {
			open = append(open, fmt.Sprintf("%s (%s)", p.Path, p.Mode.Perm()))
		}
	}
	if len(open) > 0 {
		l.add("permissions", Error, "others on this computer can read "+strings.Join(open, ", "), "chmod go= on each")
	} else if len(f.Private) > 0 {
		l.add("permissions", OK, "only the owner reads the gate's state", "")
	}
	if f.Kernels == "go" {
		l.add("processor", Warning, "the engine runs without the vector instructions of the processor, many times slower", "unset KINDRED_KERNELS, or run on a processor with AVX2 or on arm64")
	} else {
		l.add("processor", OK, fmt.Sprintf("the engine uses %s on %d processors", f.Kernels, f.Processors), "")
	}
}
