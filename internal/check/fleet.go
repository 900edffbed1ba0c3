package check

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Gate is one of the gates that share what they know.
type Gate struct {
	Name    string
	Self    bool
	There   bool // it is heard of
	Unseen  bool // it does not hear this one
	Program string
	Skew    time.Duration // of its clock, ahead of this one's
	Pending int           // changes that it has not told
}

// What is not yet worth a word.
const (
	smallSkew  = 5 * time.Second
	fewReturns = 3
)

// fleet says how machines that have joined and other gates do, as far as it concerns them together.
func (f Facts) fleet(l *list) {
	var clocks, versions, flapping []string
	clock := func(name string, skew time.Duration) {
		if skew.Abs() > smallSkew {
			clocks = append(clocks, fmt.Sprintf("%s by %+.0f s", name, skew.Seconds()))
		}
	}
	version := func(name, program string) {
		if program != "" && program != f.Version {
			versions = append(versions, name+" has "+program)
		}
	}
	files := map[string]map[string][]string{} // machines, by model and digest
	joined := 0
	for _, m := range f.Machines {
		if !m.Joined {
			continue
		}
		joined++
		clock(m.Name, m.Skew)
		version(m.Name, m.Program)
		if m.Returns >= fewReturns {
			flapping = append(flapping, fmt.Sprintf("%s (%s)", m.Name, times(m.Returns)))
		}
		for model, digest := range m.Digests {
			if files[model] == nil {
				files[model] = map[string][]string{}
			}
			files[model][digest] = append(files[model][digest], m.Name)
		}
	}
	if joined == 0 && len(f.Gates) == 0 {
		return
	}
	var split, gone, untold []string
	for _, g := range f.Gates {
		if g.Self {
			if g.Pending > 0 {
				untold = append(untold, fmt.Sprintf("%d changes of this gate", g.Pending))
			}
			continue
		}
		clock("the gate "+g.Name, g.Skew)
		version("the gate "+g.Name, g.Program)
		switch {
		case !g.There:
			gone = append(gone, g.Name)
		case g.Unseen:
			split = append(split, g.Name)
		}
	}
	if len(clocks) > 0 {
		l.add("clocks", Warning, "these clocks differ from this one's: "+strings.Join(clocks, ", "), "have all computers set theirs by NTP; limits and changes go by the servers' clock, expiry of keys by each gate's own")
	} else {
		l.add("clocks", OK, "they agree", "")
	}
	if len(versions) > 0 {
		l.add("versions", Warning, fmt.Sprintf("this gate has %s, others another version: %s", f.Version, strings.Join(versions, ", ")), "one minor version apart works; bring the older ones up to date")
	}
	if len(flapping) > 0 {
		l.add("lines", Warning, "these machines came and went within ten minutes: "+strings.Join(flapping, ", "), "look at their network, and at the log there")
	}
	var differ []string
	for _, model := range slices.Sorted(maps.Keys(files)) {
		if len(files[model]) > 1 {
			var groups []string
			for _, d := range slices.Sorted(maps.Keys(files[model])) {
				groups = append(groups, strings.Join(files[model][d], " and "))
			}
			differ = append(differ, fmt.Sprintf("%s (%s)", model, strings.Join(groups, ", others than ")))
		}
	}
	if len(differ) > 0 {
		l.add("files", Warning, "machines have different files under one name: "+strings.Join(differ, "; "), "the name alone is served by those that agree with most; give the others the same files, or another name")
	}
	switch {
	case len(split) > 0:
		l.add("gates", Error, "these gates do not hear this one, which hears them: "+strings.Join(split, ", "), "the NATS servers are split: look at the lines between them")
	case len(untold) > 0:
		l.add("gates", Warning, strings.Join(untold, ", ")+" have not reached the others", "see that the NATS servers can be reached; what was changed is told as soon as they are")
	case len(gone) > 0:
		l.add("gates", Warning, "nothing is heard of "+strings.Join(gone, ", "), "if they were stopped for good, they are forgotten after an hour")
	case len(f.Gates) > 0:
		l.add("gates", OK, fmt.Sprintf("%d share what they know", len(f.Gates)), "")
	}
}
