// Command fleet-sim simulates a fleet: the placement that gates run, against machines, applications and failures that are made up. It is a
// discrete simulation, event by event, from a seed: the same seed gives the same numbers.
//
//	go run ./tools/fleet-sim
//	go run ./tools/fleet-sim --machines 50 --gates 3 --apps 5000 --strategy random
package main

import (
	"flag"
	"fmt"
	"os"
	"time"
)

func main() {
	set := setup{}
	flag.IntVar(&set.machines, "machines", 1000, "machines")
	flag.IntVar(&set.gates, "gates", 100, "gates")
	flag.IntVar(&set.apps, "apps", 100_000, "applications")
	flag.IntVar(&set.models, "models", 20, "models, each on as many machines")
	flag.Float64Var(&set.hours, "hours", 24, "hours that are simulated")
	flag.Float64Var(&set.load, "load", 5, "conversations of an application a day, of four requests in the mean")
	flag.Uint64Var(&set.seed, "seed", 1, "seed")
	flag.StringVar(&set.strategy, "strategy", "placement", "placement, least_busy or random")
	all := flag.Bool("all", false, "the tables of docs/scaling.md: sizes, loads and strategies")
	flag.Parse()
	if set.machines < set.models || set.models < 1 || set.gates < 1 || set.apps < 1 || set.hours <= 0 || set.load <= 0 {
		fmt.Fprintln(os.Stderr, "fleet-sim: there must be at least as many machines as models, and one of everything")
		os.Exit(2)
	}
	if *all {
		tables(set)
		return
	}
	begun := time.Now()
	r := simulate(set)
	fmt.Println(heading)
	fmt.Println(rule)
	fmt.Println(row(set.strategy, set, r))
	fmt.Printf("\n%.1f s for %.0f hours\n", time.Since(begun).Seconds(), set.hours)
}

const (
	heading = "| | machines | gates | requests a day | busiest minute, requests/s | places busy | TTFT median | 95 % | 99 % | in queues, 95 % | prompt tokens cached | moved | cut | refused |"
	rule    = "| --- | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: |"
)

// row is a line of a table.
func row(name string, s setup, r result) string {
	n := float64(max(1, r.requests))
	return fmt.Sprintf("| %s | %d | %d | %.0f | %.0f | %.0f %% | %.2f s | %.1f s | %.1f s | %.1f s | %.0f %% | %.2f %% | %.3f %% | %.3f %% |", name, s.machines, s.gates, n*24/s.hours, r.worst, 100*r.busy,
		part(r.first, 0.5), part(r.first, 0.95), part(r.first, 0.99), part(r.waits, 0.95), 100*r.cached/max(1, r.prompts), 100*float64(r.moved)/n, 100*float64(r.cut)/n, 100*float64(r.refused)/n)
}

// tables are those of docs/scaling.md.
func tables(base setup) {
	print := func(title string, change func(*setup), names ...string) {
		fmt.Printf("\n%s\n\n%s\n%s\n", title, heading, rule)
		for i, name := range names {
			s := base
			change(&s)
			step(title, i, &s)
			fmt.Println(row(name, s, simulate(s)))
		}
	}
	print("Strategies, at the same load", func(s *setup) {}, "placement", "least busy", "random")
	print("Load, by placement", func(s *setup) {}, "half", "as above", "1.5 times", "twice", "2.5 times")
	print("Gates, whose views of a machine are up to a second old", func(s *setup) {}, "one gate", "10 gates", "100 gates", "300 gates")
	print("Sizes, as many machines as the load needs", func(s *setup) {}, "a team", "a department", "a company")
}

// step is what changes from line to line of a table.
func step(title string, i int, s *setup) {
	switch title[:3] {
	case "Str":
		s.strategy = []string{"placement", "least_busy", "random"}[i]
	case "Loa":
		s.load *= []float64{0.5, 1, 1.5, 2, 2.5}[i]
	case "Gat":
		s.gates = []int{1, 10, 100, 300}[i]
	case "Siz":
		s.machines, s.gates, s.apps, s.models = []int{6, 60, 600}[i], []int{1, 3, 10}[i], []int{600, 6000, 60_000}[i], []int{2, 6, 20}[i]
	}
}
