package cli

import (
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/pflag"

	"kindredgate/internal/config"
	"kindredgate/internal/suite"
)

// block is a run of indented or fenced lines of a document.
type block struct {
	file string
	line int // of the first, from 1
	text string
}

// blocks are those of the documents, and of the comments of what is deployed.
func blocks(t *testing.T) (list []block, inline []block) {
	t.Helper()
	var files []string
	for _, pattern := range []string{"../../README.md", "../../docs/*.md", "../../deploy/*.*", "../../deploy/*/*"} {
		found, err := filepath.Glob(pattern)
		if err != nil || len(found) == 0 {
			t.Fatal(pattern, err)
		}
		files = append(files, found...)
	}
	code := regexp.MustCompile("`(kindred [^`]+)`")
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var now *block
		fenced := false
		for i, line := range strings.Split(string(raw), "\n") {
			indent := "    "
			if strings.Contains(file, "deploy") {
				indent = "#   "
			}
			text, indented := strings.CutPrefix(line, indent)
			if strings.HasPrefix(line, "```") {
				fenced, now = !fenced, nil
				continue
			}
			if fenced {
				text, indented = line, true
			}
			switch {
			case indented && now == nil:
				list = append(list, block{file, i + 1, text})
				now = &list[len(list)-1]
			case indented:
				now.text += "\n" + text
			case strings.TrimSpace(line) == "" && now != nil:
				now.text += "\n"
			default:
				now = nil
			}
			if !indented {
				for _, m := range code.FindAllStringSubmatch(line, -1) {
					inline = append(inline, block{file, i + 1, m[1]})
				}
			}
		}
	}
	return list, inline
}

var setting = regexp.MustCompile(`^[a-z_]+:( |$)`)

// Every piece of configuration and every suite in the documents can be loaded, and every command line is one that the program understands,
// under the names that it has today.
func TestDocuments(t *testing.T) {
	for _, name := range []string{"XDG_CONFIG_HOME", "KINDRED_CONFIG"} {
		t.Setenv(name, t.TempDir())
	}
	list, inline := blocks(t)
	files, commands := 0, 0
	for _, b := range list {
		first, _, _ := strings.Cut(strings.TrimSpace(b.text), "\n")
		switch {
		case strings.HasPrefix(first, "suite:"):
			files++
			if _, err := suite.Parse([]byte(b.text)); err != nil {
				t.Errorf("%s:%d: %v", b.file, b.line, err)
			}
		case setting.MatchString(first):
			files++
			path := filepath.Join(t.TempDir(), "gate.yaml")
			if err := os.WriteFile(path, []byte(b.text), 0o600); err != nil {
				t.Fatal(err)
			}
			if _, err := config.Read(path); err != nil {
				t.Errorf("%s:%d: %v", b.file, b.line, err)
			}
		default:
			for i, line := range strings.Split(strings.ReplaceAll(b.text, "\\\n", " \x00"), "\n") {
				for _, args := range commandsIn(line) {
					commands++
					if err := understood(args, true); err != nil {
						t.Errorf("%s:%d: kindred %s: %v", b.file, b.line+i, strings.Join(args, " "), err)
					}
				}
			}
		}
	}
	for _, b := range inline {
		for _, args := range commandsIn(b.text) {
			commands++
			if err := understood(args, false); err != nil {
				t.Errorf("%s:%d: kindred %s: %v", b.file, b.line, strings.Join(args, " "), err)
			}
		}
	}
	if files < 10 || commands < 60 {
		t.Errorf("only %d files and %d commands were found", files, commands)
	}
	t.Logf("%d files, %d commands", files, commands)
}

var shellWord = regexp.MustCompile(`(?:"[^"]*"|'[^']*'|\\.|[^\s"'|&;<>]|<[a-z])+|[|&;<>]+`)

// commandsIn are the arguments of each call of kindred in a line for a shell.
func commandsIn(line string) (list [][]string) {
	line = strings.ReplaceAll(line, "\x00", "")
	if strings.HasPrefix(line, "sudo install ") {
		return nil
	}
	if at := regexp.MustCompile(`(^|\s)#`).FindStringIndex(line); at != nil {
		line = line[:at[0]]
	}
	var now []string
	calls := false
	end := func() {
		if calls {
			list = append(list, now)
		}
		now, calls = nil, false
	}
	for _, w := range shellWord.FindAllString(line, -1) {
		switch {
		case strings.Trim(w, "|&;") == "":
			end()
		case strings.Trim(w, "<>") == "":
			end()
		case !calls && (w == "kindred" || strings.HasSuffix(w, "/kindred")):
			now, calls = []string{}, true
		case calls:
			now = append(now, strings.NewReplacer(`"`, "", `'`, "").Replace(w))
		}
	}
	end()
	return list
}

// understood reports what the program has against a command line. Where it stands in a sentence, its arguments may be left out.
func understood(args []string, whole bool) error {
	t := &terminal{strings.NewReader(""), io.Discard, io.Discard}
	root := t.root()
	c, rest, err := root.Find(args)
	if err != nil {
		return err
	}
	if c.Hidden || c.Deprecated != "" {
		return usageError{errOld(c.Name())}
	}
	c.InitDefaultHelpFlag()
	if err := c.ParseFlags(rest); err != nil {
		return err
	}
	c.Flags().Visit(func(f *pflag.Flag) {
		if f.Deprecated != "" || f.Hidden {
			err = errOld("--" + f.Name)
		}
	})
	if err != nil || !whole {
		return err
	}
	return c.ValidateArgs(c.Flags().Args())
}

type errOld string

func (e errOld) Error() string { return string(e) + " is an old name" }
