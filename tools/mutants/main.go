// Command mutants makes changes to lines that guard something, one at a time, and sees whether a test fails. The changes stand in
// a list; each names the tests that should fail. Nothing is written to the tree: a change is laid over it for one run.
//
// It prints what was not caught, and fails if that is more than the list allows.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
)

// list is what the file holds.
type list struct {
	Missed  int      `yaml:"missed"` // how many may go uncaught
	Changes []change `yaml:"changes"`
}

// change is one line made wrong.
type change struct {
	Claim string   `yaml:"claim"` // what is no longer so
	File  string   `yaml:"file"`
	From  string   `yaml:"from"` // stands in the file once
	To    string   `yaml:"to"`
	Tests []string `yaml:"tests"` // packages below internal, or e2e
	Run   string   `yaml:"run"`   // which of their tests; all, if it is empty
}

func main() {
	only := flag.String("only", "", "an expression: only claims that fit it are tried")
	file := flag.String("list", "tools/mutants/changes.yaml", "the list of changes")
	flag.Parse()
	if err := run(*file, *only); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(file, only string) error {
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var l list
	if err := yaml.UnmarshalWithOptions(raw, &l, yaml.Strict()); err != nil {
		return err
	}
	fits, err := regexp.Compile(only)
	if err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "mutants")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	tried, missed, wrong := 0, 0, 0
	for _, c := range l.Changes {
		if !fits.MatchString(c.Claim) {
			continue
		}
		begun := time.Now()
		caught, by, err := try(c, work)
		tried++
		switch {
		case err != nil:
			wrong++
			by = err.Error()
		case !caught:
			missed++
			by = "NOT CAUGHT"
		}
		fmt.Printf("%-70s %s (%s)\n", c.Claim, by, time.Since(begun).Round(time.Second))
	}
	fmt.Printf("%d changes, %d caught\n", tried, tried-missed-wrong)
	switch {
	case wrong > 0:
		return fmt.Errorf("%d of the changes could not be made; mend the list", wrong)
	case missed > l.Missed:
		return fmt.Errorf("%d were not caught; %d may be", missed, l.Missed)
	}
	return nil
}

var failed = regexp.MustCompile(`(?m)^--- FAIL: (\S+)`)

// try tests one change and names the first test that failed.
func try(c change, work string) (caught bool, by string, err error) {
	path, err := filepath.Abs(c.File)
	if err != nil {
		return false, "", err
	}
	source, err := os.ReadFile(path)
	if err != nil {
		return false, "", err
	}
	if n := strings.Count(string(source), c.From); n != 1 {
		return false, "", fmt.Errorf("%q stands %d times in %s", c.From, n, c.File)
	}
	changed := filepath.Join(work, "changed.go")
	overlay := filepath.Join(work, "overlay.json")
	doc, err := json.Marshal(map[string]map[string]string{"Replace": {path: changed}})
	if err != nil {
		return false, "", err
	}
	if err := errors.Join(os.WriteFile(changed, []byte(strings.Replace(string(source), c.From, c.To, 1)), 0o600), os.WriteFile(overlay, doc, 0o600)); err != nil {
		return false, "", err
	}
	args := []string{"test", "-failfast", "-timeout", "3m", "-run", c.Run}
	for _, t := range c.Tests {
		if t != "e2e" {
			t = "internal/" + t
		}
		args = append(args, "./"+t)
	}
	cmd := exec.Command("go", args...)
	cmd.Env = append(os.Environ(), "GOFLAGS="+os.Getenv("GOFLAGS")+" -overlay="+overlay) // for the builds that a test makes, too
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case err == nil:
		return false, "", nil
	case !errors.As(err, &exit):
		return false, "", err
	case bytes.Contains(out.Bytes(), []byte("[build failed]")), bytes.Contains(out.Bytes(), []byte("[setup failed]")):
		return false, "", fmt.Errorf("the changed code cannot be built:\n%s", out.Bytes())
	}
	by = "a test ended the program"
	if m := failed.FindSubmatch(out.Bytes()); m != nil {
		by = string(m[1])
	}
	return true, by, nil
}
