package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/dialect"
)

func (t *terminal) talk() *cobra.Command {
	flags := clientFlags{application: true}
	var q questionFlags
	var styleName, resume string
	cmd := &cobra.Command{
		Use:   "talk",
		Short: "Talk with a model in the terminal",
		Long: "Talk with a model in the terminal. A line is a turn; one that ends with \\ goes on in the next, and pasted text is kept\n" +
			"together. Ctrl-C stops an answer, Ctrl-D ends the talk. \":help\" shows what else there is.",
		Args: exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			q.read(c)
			s, err := styleNamed(q.style(c, styleName), q.question)
			if err != nil {
				return err
			}
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			return t.converse(c.Context(), gate, s, q.question, resume)
		},
	}
	flags.add(cmd)
	q.add(cmd)
	f := cmd.Flags()
	f.StringVarP(&styleName, "style", "s", string(dialect.Chat), "how to put what is said: "+strings.Join(styleNames(), ", "))
	f.BoolVarP(&q.Think, "reason", "r", false, "have the model reason first; the reasoning is folded away")
	f.StringVar(&resume, "resume", "", "go on with a talk that was kept, by its name; \"last\" for the last one")
	return cmd
}

// talk is a conversation in the terminal.
type talk struct {
	t        *terminal
	gate     *client
	style    style
	q        question // with the history
	reasoned string   // before the last answer
	name     string   // under which it is kept
	in       *lineReader
}

// kept is what is kept of a talk.
type keptTalk struct {
	Model        string        `json:"model"`
	Style        dialect.Style `json:"style"`
	Instructions string        `json:"instructions,omitempty"`
	Turns        []message     `json:"turns"`
}

// converse talks until there is nothing more to say.
func (t *terminal) converse(ctx context.Context, gate *client, s style, q question, resume string) error {
	// Ctrl-C ends an answer and not the program, so its signal must not end the context. The others do.
	ctx, stop := signal.NotifyContext(context.WithoutCancel(ctx), syscall.SIGTERM)
	defer stop()
	c := &talk{t: t, gate: gate, style: s, q: q, name: time.Now().Format("2006-01-02-150405"), in: newLineReader(t)}
	if resume != "" {
		if err := c.load(resume); err != nil {
			return err
		}
	}
	if err := c.choose(ctx); err != nil {
		return err
	}
	quiet := paint(t.out, color.Faint)
	fmt.Fprintf(t.out, "%s\n", quiet(fmt.Sprintf("%s, %s style. Ctrl-C stops an answer, Ctrl-D ends the talk, :help shows the rest.", shown(c.q.Model), c.style.Style)))
	if n := len(c.q.History); n > 0 {
		c.show()
	}
	for {
		text, err := c.in.read(ctx, "\n> ")
		switch {
		case errors.Is(err, io.EOF):
			return c.bye()
		case err != nil:
			return err
		case text == "":
			continue
		}
		if command, rest, ok := commandOf(text); ok {
			err = c.do(ctx, command, rest)
		} else {
			err = c.say(ctx, text)
		}
		switch {
		case errors.Is(err, io.EOF):
			return c.bye()
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case err != nil:
			fmt.Fprintf(t.err, "kindred: %s\n", oneLine(err))
		}
	}
}

// bye says under which name the talk is kept.
func (c *talk) bye() error {
	if len(c.q.History) == 0 {
		return nil
	}
	_, err := fmt.Fprintf(c.t.out, "\nKept as %s: \"kindred talk --resume %s\" goes on with it.\n", c.name, c.name)
	return err
}

// choose asks for a model if there are several and none was named.
func (c *talk) choose(ctx context.Context) error {
	model, err := c.gate.model(ctx, c.q.Model)
	if err == nil {
		c.q.Model = model
		return nil
	}
	var several usageError
	if c.q.Model != "" || !errors.As(err, &several) {
		return err
	}
	list, err := c.gate.listedModels(ctx, func(use string) bool { return use != "embedding" })
	if err != nil {
		return err
	}
	for i, o := range list {
		fmt.Fprintf(c.t.out, "  %d  %s\n", i+1, shown(o.ID))
	}
	for {
		answer, err := c.in.read(ctx, "Which model? Its number, or its name: ")
		if err != nil {
			return err
		}
		if answer == "" {
			continue
		}
		if c.q.Model, err = c.gate.model(ctx, answer); err == nil && slices.ContainsFunc(list, func(o listedModel) bool { return o.ID == c.q.Model }) {
			return nil
		}
		fmt.Fprintf(c.t.err, "kindred: there is no model %q in the list\n", shown(answer))
	}
}

// approve asks whether a tool is to be run.
func (c *talk) approve(ctx context.Context, question string) (bool, error) {
	answer, err := c.in.read(ctx, question)
	return isYes(answer), err
}

// say sends a turn and prints what the model says. An answer that was stopped stays as far as it came.
func (c *talk) say(ctx context.Context, text string) error {
	c.q.Text = text
	answering, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	a, err := c.t.answer(answering, c.gate, c.style, c.q, true, c.approve)
	stopped := answering.Err() != nil && ctx.Err() == nil
	if err != nil && !stopped {
		return err
	}
	if stopped {
		fmt.Fprintln(c.t.out, paint(c.t.out, color.Faint)("(stopped)"))
		if a.text == "" {
			return nil // as if it had not been asked
		}
	}
	if c.reasoned = a.reasoning; a.reasoning != "" {
		fmt.Fprintln(c.t.err, paint(c.t.err, color.Faint)(fmt.Sprintf("reasoned for about %d tokens; :reasoning shows it", a.thought)))
	}
	c.q.History = append(c.q.History, message{"user", text, c.q.Pictures}, message{"assistant", a.text, nil})
	c.q.Pictures = nil
	return c.save()
}

// talkCommands are what can be done beside talking.
var talkCommands = []struct{ name, what string }{
	{"again", "ask the last question again, for another answer"},
	{"edit", "take the last question back and change it"},
	{"model NAME", "go on with another model, by name or number; without a name, list them"},
	{"style NAME", "go on in another style: chat, generate, response or completion"},
	{"picture FILE", "show the model a picture with what is said next; without a file, none any more"},
	{"instructions TEXT", "tell the model something ahead of everything; without a text, nothing any more"},
	{"reason on|off", "have the model reason first, or not"},
	{"reasoning", "show how the model came to its last answer"},
	{"said", "show the talk so far"},
	{"new", "begin a new conversation; this one is kept under its name"},
	{"help", "show this"},
	{"end", "end the talk"},
}

// commandOf tells a command from something to say. A colon that is not before a letter is text.
func commandOf(text string) (name, rest string, ok bool) {
	if len(text) < 2 || text[0] != ':' || text[1] < 'a' || text[1] > 'z' || strings.Contains(text, "\n") {
		return "", "", false
	}
	name, rest, _ = strings.Cut(text[1:], " ")
	return name, strings.TrimSpace(rest), true
}

// last takes the last question and its answer back.
func (c *talk) last() (string, bool) {
	n := len(c.q.History)
	if n < 2 {
		return "", false
	}
	text := c.q.History[n-2].Content
	c.q.Pictures = c.q.History[n-2].Pictures
	c.q.History = c.q.History[:n-2]
	return text, true
}

// picture takes a picture that goes with what is said next.
func (c *talk) picture(path string) error {
	if path == "" {
		c.q.Pictures = nil
		return nil
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	url, ok, err := pictureOf(path, raw)
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("%s is no picture (PNG, JPEG, GIF, WebP)", path)
	}
	q := c.q
	q.Pictures = append(slices.Clone(q.Pictures), url)
	if _, err := styleNamed(string(c.style.Style), q); err != nil {
		return err
	}
	c.q.Pictures = q.Pictures
	fmt.Fprintf(c.t.out, "It goes with what you say next.\n")
	return nil
}

// do carries out a command. io.EOF ends the talk.
func (c *talk) do(ctx context.Context, command, rest string) error {
	out := c.t.out
	switch command {
	case "end":
		return io.EOF
	case "help":
		for _, k := range talkCommands {
			fmt.Fprintf(out, "  :%-18s %s\n", k.name, k.what)
		}
	case "again", "edit":
		text, ok := c.last()
		if !ok {
			return errors.New("nothing has been asked yet")
		}
		if command == "edit" {
			c.in.prefill(text)
			return nil
		}
		return c.say(ctx, text)
	case "model":
		if rest == "" {
			list, err := c.gate.listedModels(ctx, func(use string) bool { return use != "embedding" })
			for i, o := range list {
				fmt.Fprintf(out, "  %d  %s\n", i+1, shown(o.ID))
			}
			return err
		}
		model, err := c.gate.model(ctx, rest)
		if err != nil {
			return err
		}
		c.q.Model = model
		fmt.Fprintf(out, "%s goes on.\n", shown(model))
	case "style":
		s, err := styleNamed(rest, c.q)
		if err != nil {
			return err
		}
		c.style = s
		fmt.Fprintf(out, "On in the %s style.\n", s.Style)
	case "picture":
		return c.picture(rest)
	case "instructions":
		c.q.Instructions = rest
		if _, err := styleNamed(string(c.style.Style), c.q); err != nil {
			c.q.Instructions = ""
			return err
		}
	case "reason":
		if rest != "on" && rest != "off" {
			return errors.New(":reason takes on or off")
		}
		c.q.Think = rest == "on"
		if _, err := styleNamed(string(c.style.Style), c.q); err != nil {
			c.q.Think = false
			return err
		}
	case "reasoning":
		if c.reasoned == "" {
			return errors.New("the model did not reason before its last answer; \":reason on\" has it do so")
		}
		fmt.Fprintln(out, paint(out, color.Faint)(shown(c.reasoned)))
	case "said":
		c.show()
	case "new":
		c.q.History, c.reasoned = nil, ""
		c.name = time.Now().Format("2006-01-02-150405")
	default:
		return fmt.Errorf("there is no :%s; :help shows what there is, and a line that begins with a space is said as it is", command)
	}
	return nil
}

// show prints what was said.
func (c *talk) show() {
	own := paint(c.t.out, color.Bold)
	for _, m := range c.q.History {
		if m.Role == "user" {
			fmt.Fprintf(c.t.out, "\n%s\n", own("> "+shown(m.Content)))
		} else {
			fmt.Fprintln(c.t.out, shown(m.Content))
		}
	}
}

// talksFolder is where talks are kept.
func talksFolder() (string, error) {
	dir, err := config.StateFolder()
	return filepath.Join(dir, "talks"), err
}

// save keeps the talk. Nobody else can read it.
func (c *talk) save() error {
	dir, err := talksFolder()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return boot.FolderError(dir, err)
	}
	raw, err := json.MarshalIndent(keptTalk{c.q.Model, c.style.Style, c.q.Instructions, c.q.History}, "", "  ")
	if err != nil {
		return err
	}
	file := filepath.Join(dir, c.name+".json")
	if err := os.WriteFile(file+".part", raw, 0o600); err != nil {
		return boot.FolderError(dir, err)
	}
	return os.Rename(file+".part", file)
}

// load goes on with a talk that was kept. What was asked for on the command line stands.
func (c *talk) load(name string) error {
	dir, err := talksFolder()
	if err != nil {
		return err
	}
	if name == "last" {
		files, err := filepath.Glob(filepath.Join(dir, "*.json"))
		if err != nil {
			return err
		}
		if len(files) == 0 {
			return errors.New("no talk has been kept yet")
		}
		name = strings.TrimSuffix(filepath.Base(slices.Max(files)), ".json") // their names are times
	}
	if name != filepath.Base(name) {
		return usageError{fmt.Errorf("%q is not the name of a talk; one looks like 2026-11-26-171500", name)}
	}
	raw, err := os.ReadFile(filepath.Join(dir, name+".json"))
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("there is no talk %q in %s", name, dir)
	} else if err != nil {
		return err
	}
	var k keptTalk
	if err := json.Unmarshal(raw, &k); err != nil {
		return fmt.Errorf("the talk %s cannot be read: %w", name, err)
	}
	c.name, c.q.History = name, k.Turns
	if c.q.Model == "" {
		c.q.Model = k.Model
	}
	if c.q.Instructions == "" {
		c.q.Instructions = k.Instructions
	}
	if s, err := styleNamed(string(k.Style), c.q); err == nil {
		c.style = s
	}
	return nil
}

// lineReader reads what a person types, with a line editor if it is a person.
type lineReader struct {
	t      *terminal
	editor *term.Terminal // nil where nobody types
	input  *keys
}

func newLineReader(t *terminal) *lineReader {
	l := &lineReader{t: t, input: &keys{Reader: t.in}}
	if isTerminal(t.in) && isTerminal(t.out) && !dumb() {
		l.editor = term.NewTerminal(struct {
			io.Reader
			io.Writer
		}{l.input, t.out}, "")
		l.editor.SetBracketedPasteMode(false) // it is on while a line is read
	}
	return l
}

// prefill puts a text into the next line, to be changed.
func (l *lineReader) prefill(text string) {
	l.input.ahead = append(l.input.ahead, strings.ReplaceAll(text, "\n", " ")...)
}

// read reads one thing to say: a line, several that end with a backslash, or pasted text up to the next end of a line. It is io.EOF
// when nothing more comes.
func (l *lineReader) read(ctx context.Context, prompt string) (string, error) {
	var lines []string
	for {
		line, pasted, err := l.line(prompt)
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
		if err != nil {
			return strings.TrimSpace(strings.Join(lines, "\n")), err
		}
		more := strings.HasSuffix(line, `\`)
		lines = append(lines, strings.TrimSuffix(line, `\`))
		if !more && !pasted {
			text := strings.Join(lines, "\n")
			if strings.TrimSpace(text) == "" {
				return "", nil
			}
			return strings.TrimRight(text, " \n"), nil
		}
		prompt = ". "
	}
}

func (l *lineReader) line(prompt string) (line string, pasted bool, err error) {
	if l.editor == nil {
		if isTerminal(l.t.in) {
			fmt.Fprint(l.t.out, prompt)
		}
		return l.input.plainLine()
	}
	file := l.t.in.(*os.File)
	state, err := term.MakeRaw(int(file.Fd()))
	if err != nil {
		return "", false, err
	}
	defer term.Restore(int(file.Fd()), state) //nolint:errcheck // what was set can be set back
	if w, h, err := term.GetSize(int(file.Fd())); err == nil && w > 0 {
		_ = l.editor.SetSize(w, h) // a strange size is none
	}
	if before, ok := strings.CutPrefix(prompt, "\n"); ok {
		fmt.Fprint(l.t.out, "\r\n")
		prompt = before
	}
	l.editor.SetPrompt(prompt)
	l.editor.SetBracketedPasteMode(true)
	defer l.editor.SetBracketedPasteMode(false)
	line, err = l.editor.ReadLine()
	if errors.Is(err, term.ErrPasteIndicator) {
		return line, true, nil
	}
	return line, false, err
}

// keys is what comes from the keyboard. Ctrl-C empties the line, where the line editor would end the program.
type keys struct {
	io.Reader
	ahead []byte // to come before anything else
}

const (
	ctrlC       = 3
	ctrlE       = 5 // to the end of the line
	ctrlU       = 21
	longestLine = 1 << 20
)

func (k *keys) Read(p []byte) (int, error) {
	if len(k.ahead) == 0 {
		n, err := k.Reader.Read(p)
		if err != nil || !slices.Contains(p[:n], ctrlC) {
			return n, err
		}
		for _, b := range p[:n] {
			if b == ctrlC {
				k.ahead = append(k.ahead, ctrlE, ctrlU)
			} else {
				k.ahead = append(k.ahead, b)
			}
		}
	}
	n := copy(p, k.ahead)
	k.ahead = k.ahead[n:]
	return n, nil
}

// plainLine reads a line where there is no editor.
func (k *keys) plainLine() (string, bool, error) {
	var line []byte
	one := make([]byte, 1)
	for len(line) < longestLine {
		n, err := k.Read(one)
		switch {
		case n == 1 && one[0] == '\n':
			return strings.TrimSuffix(string(line), "\r"), false, nil
		case n == 1:
			line = append(line, one[0])
		case err != nil && len(line) > 0 && errors.Is(err, io.EOF):
			return string(line), false, nil
		case err != nil:
			return "", false, err
		}
	}
	return "", false, fmt.Errorf("a line is longer than %d bytes", longestLine)
}
