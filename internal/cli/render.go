package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/fatih/color"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kindredgate/internal/dialect"
	"kindredgate/internal/server"
)

func (t *terminal) render() *cobra.Command {
	var flags clientFlags
	var model, instructions, file, answer string
	var templates []string
	var asJSON, textOnly, compare bool
	cmd := &cobra.Command{
		Use:   "render QUESTION",
		Short: "Show the exact prompt that a question becomes, and where each part comes from",
		Example: `  kindred render "When is the last boat to Osmer?"
  kindred render --compare --instructions "Answer in one short sentence." "When is the last boat to Osmer?"
  kindred render --compare --answer "At 19:40." "When is the last boat to Osmer?"
  kindred render --file conversation.json`,
		RunE: func(c *cobra.Command, args []string) error {
			if compare {
				if file != "" || asJSON || textOnly {
					return usageError{fmt.Errorf("--compare takes a question, and goes with --model and --instructions only")}
				}
				if answer != "" {
					return t.measure(c.Context(), flags, model, instructions, answer, templates, args)
				}
				return t.compare(c.Context(), flags, model, instructions, args)
			}
			if answer != "" || len(templates) > 0 {
				return usageError{fmt.Errorf("--answer and --template go with --compare, which tells how likely the answer is in each style")}
			}
			body, err := t.conversationOf(file, instructions, args)
			if err != nil {
				return err
			}
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			gate.exact = asJSON || textOnly || !isTerminal(t.out)
			if model, err = gate.model(c.Context(), model); err != nil {
				return err
			}
			body["model"] = model
			var p server.RenderedPrompt
			if err := gate.call(c.Context(), http.MethodPost, "/gate/prompt/render", body, &p); err != nil {
				return err
			}
			switch {
			case asJSON:
				return t.printJSON(p)
			case textOnly:
				_, err := fmt.Fprint(t.out, p.Text)
				return err
			}
			return t.printPrompt(p)
		},
	}
	flags.add(cmd)
	f := cmd.Flags()
	f.StringVarP(&model, "model", "m", "", "model whose template to use (default the only one)")
	f.StringVarP(&instructions, "instructions", "i", "", "what the model is told ahead of the question")
	f.StringVarP(&file, "file", "f", "", "conversation to render: a JSON list of turns with role and content, or a chat request; or a picture that goes with the question")
	f.BoolVar(&compare, "compare", false, "show what the question becomes in each style: chat, generate and completion")
	f.StringVar(&answer, "answer", "", "with --compare: an answer that is wanted, to see how likely it is in each style, preset and template")
	f.StringArrayVar(&templates, "template", nil, "with --answer: files with chat templates to compare with the model's")
	f.BoolVar(&textOnly, "text", false, "print the prompt alone, to the byte")
	f.BoolVarP(&asJSON, "json", "j", false, "print the prompt with its spans and tokens as JSON")
	return cmd
}

// conversationOf is what to render: a question, or what a file holds, a list of turns or a request with messages and
// perhaps tools.
func (t *terminal) conversationOf(file, instructions string, args []string) (map[string]any, error) {
	if file == "" {
		text, _, err := t.question(args, nil)
		return map[string]any{"messages": question{Instructions: instructions, Text: text}.conversation()}, err
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if url, ok, err := pictureOf(file, raw); err != nil {
		return nil, err
	} else if ok {
		text, _, err := t.question(args, nil)
		return map[string]any{"messages": question{Instructions: instructions, Text: text, Pictures: []string{url}}.conversation()}, err
	}
	if len(args) > 0 || instructions != "" {
		return nil, usageError{fmt.Errorf("--file holds the whole conversation; leave out the question and the instructions")}
	}
	var content any
	if err := json.Unmarshal(raw, &content); err != nil {
		return nil, fmt.Errorf("%s is not JSON: %w", file, err)
	}
	if request, ok := content.(map[string]any); ok {
		return request, nil
	}
	return map[string]any{"messages": json.RawMessage(raw)}, nil
}

// styled are the styles in which one question can be put, in the order of inStyles.
var styled = []dialect.Style{dialect.Chat, dialect.Generate, dialect.Completion}

// inStyles is a question in each style.
func (t *terminal) inStyles(ctx context.Context, flags clientFlags, model, instructions string, args []string) (gate *client, name string, bodies []map[string]any, err error) {
	text, _, err := t.question(args, nil)
	if err != nil {
		return nil, "", nil, err
	}
	if gate, err = flags.open(ctx); err != nil {
		return nil, "", nil, err
	}
	if name, err = gate.model(ctx, model); err != nil {
		return nil, "", nil, err
	}
	single := map[string]any{"style": dialect.Generate, "model": name, "prompt": text}
	if instructions != "" {
		single["instructions"] = instructions
	}
	return gate, name, []map[string]any{
		{"style": dialect.Chat, "model": name, "messages": question{Instructions: instructions, Text: text}.conversation()},
		single,
		{"style": dialect.Completion, "model": name, "prompt": text},
	}, nil
}

// compare shows what one question becomes in each style.
func (t *terminal) compare(ctx context.Context, flags clientFlags, model, instructions string, args []string) error {
	gate, _, bodies, err := t.inStyles(ctx, flags, model, instructions, args)
	if err != nil {
		return err
	}
	prompts := make([]server.RenderedPrompt, len(bodies))
	for i, body := range bodies {
		if err := gate.call(ctx, http.MethodPost, "/gate/prompt/render", body, &prompts[i]); err != nil {
			return err
		}
	}
	width := 100
	if file, ok := t.out.(*os.File); ok && isTerminal(t.out) {
		if w, _, err := term.GetSize(int(file.Fd())); err == nil {
			width = w
		}
	}
	strong, mark := paint(t.out, color.Bold), paint(t.out, color.FgRed)
	columns := make([][]string, len(prompts))
	each := max(20, (width-4)/len(prompts))
	for i, p := range prompts {
		columns[i] = append([]string{strong(pad(fmt.Sprintf("%s, %d tokens", styled[i], p.Tokens), each))}, wrap(p, each, mark)...)
	}
	for row := range max(len(columns[0]), len(columns[1]), len(columns[2])) {
		var line []string
		for i := range columns {
			cell := strings.Repeat(" ", each)
			if row < len(columns[i]) {
				cell = columns[i][row]
			}
			line = append(line, cell)
		}
		fmt.Fprintln(t.out, strings.TrimRight(strings.Join(line, "  "), " "))
	}
	fmt.Fprintf(t.out, "\n%s\n", differs(prompts, instructions))
	return nil
}

// measure tells how likely a wanted answer is: in each style, with each preset of the model, and with each of the templates.
func (t *terminal) measure(ctx context.Context, flags clientFlags, model, instructions, answer string, templates, args []string) error {
	gate, model, bodies, err := t.inStyles(ctx, flags, model, instructions, args)
	if err != nil {
		return err
	}
	type variant struct {
		name string
		body map[string]any
	}
	var variants []variant
	for i, body := range bodies {
		variants = append(variants, variant{string(styled[i]), body})
	}
	conversation := bodies[0]["messages"]
	var presets server.PresetList
	if err := gate.call(ctx, http.MethodGet, "/gate/presets", nil, &presets); err != nil {
		return err
	}
	for _, p := range presets.Presets {
		if p.Model == model {
			variants = append(variants, variant{"preset " + p.Name, map[string]any{"model": p.Name, "messages": conversation}})
		}
	}
	for _, file := range templates {
		raw, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		variants = append(variants, variant{"template " + file, map[string]any{"model": model, "messages": conversation, "template": string(raw)}})
	}
	rows := [][]string{{"PROMPT", "TOKENS", "LOG-PROBABILITY", "A TOKEN", "LEAST LIKELY", "IN ITS PLACE"}}
	for _, w := range variants {
		w.body["answer"] = answer
		var m server.Measured
		if err := gate.call(ctx, http.MethodPost, "/gate/prompt/measure", w.body, &m); err != nil {
			return fmt.Errorf("%s: %w", w.name, err)
		}
		worst := m.Tokens[0]
		for _, tok := range m.Tokens {
			if tok.LogProb < worst.LogProb {
				worst = tok
			}
		}
		rather := "-"
		if len(worst.Top) > 0 && worst.Top[0].Text != worst.Text {
			rather = fmt.Sprintf("%q %.1f %%", worst.Top[0].Text, 100*math.Exp(worst.Top[0].LogProb))
		}
		rows = append(rows, []string{w.name, fmt.Sprint(m.PromptTokens), logProb(m.LogProb), fmt.Sprintf("%.1f %%", 100*math.Exp(m.LogProb/float64(len(m.Tokens)))),
			fmt.Sprintf("%q %.1f %%", worst.Text, 100*math.Exp(worst.LogProb)), rather})
	}
	if err := table(t.out, rows...); err != nil {
		return err
	}
	_, err = fmt.Fprintf(t.out, "\nThe nearer the log-probability of %q is to 0, the likelier the answer; \"a token\" is the geometric mean.\n", shown(answer))
	return err
}

// differs says in words how the prompts differ.
func differs(p []server.RenderedPrompt, instructions string) string {
	var list []string
	if p[0].Text == p[1].Text {
		list = append(list, "Chat and generate send the model the same prompt.")
	} else {
		list = append(list, "Chat and generate send the model different prompts.")
	}
	list = append(list, fmt.Sprintf("Raw sends the text without the template, which leaves out %d tokens: the model goes on with the text instead of answering it.", p[0].Tokens-p[2].Tokens))
	if instructions != "" {
		list = append(list, "Raw has no place for instructions.")
	}
	return strings.Join(list, "\n")
}

func pad(s string, width int) string {
	return s + strings.Repeat(" ", max(0, width-utf8.RuneCountInString(s)))
}

// wrap cuts a prompt into lines of that width, with its control tokens marked.
func wrap(p server.RenderedPrompt, width int, mark func(string) string) (lines []string) {
	line, used := "", 0
	end := func() {
		lines = append(lines, line+strings.Repeat(" ", width-used))
		line, used = "", 0
	}
	for _, tok := range p.TokenList {
		text := strings.ReplaceAll(p.Text[tok.Start:tok.End], "\n", "⏎")
		n := utf8.RuneCountInString(text)
		if used+n > width && used > 0 {
			end()
		}
		if n > width {
			text, n = string([]rune(text)[:width]), width
		}
		if tok.Control {
			text = mark(text)
		}
		line += text
		used += n
	}
	if used > 0 {
		end()
	}
	return lines
}

// piece is what a row of the printed prompt shows: spans that tokens tie together.
type piece struct {
	start, end int
	origin     string
	tokens     int
	control    bool // a control token
	template   bool // the template's own text
	picture    *server.PromptPicture
}

// pieces joins spans into which a token reaches from the span before, since a token cannot be shown in halves.
func pieces(p server.RenderedPrompt) (list []piece) {
	inside := map[int]bool{} // bytes at which a token goes on
	control := map[int]bool{}
	for _, tok := range p.TokenList {
		for i := tok.Start + 1; i < tok.End; i++ {
			inside[i] = true
		}
		control[tok.Start] = tok.Control
	}
	for _, s := range p.Spans {
		origin := s.Origin
		if s.Line > 0 {
			origin = fmt.Sprintf("template, line %d", s.Line)
		}
		if n := len(list); n > 0 && inside[s.Start] {
			last := &list[n-1]
			last.end = s.End
			last.tokens += s.Tokens
			if s.Origin != "template" {
				last.origin += " + " + origin
			}
			continue
		}
		list = append(list, piece{s.Start, s.End, origin, s.Tokens, control[s.Start], s.Origin == "template" || control[s.Start], s.Picture})
	}
	return list
}

func (t *terminal) printPrompt(p server.RenderedPrompt) error {
	strong, quiet := paint(t.out, color.Bold), paint(t.out, color.Faint)
	mark, own := paint(t.out, color.FgRed), paint(t.out, color.FgGreen)
	fmt.Fprintf(t.out, "%s  %d of %d tokens\n\n", strong(p.Model), p.Tokens, p.ContextLength)
	list := pieces(p)
	width := len("FROM")
	for _, x := range list {
		width = max(width, utf8.RuneCountInString(x.origin))
	}
	fmt.Fprintln(t.out, quiet(fmt.Sprintf("%6s  %-*s  %s", "TOKENS", width, "FROM", "TEXT")))
	for _, x := range list {
		lines := strings.SplitAfter(p.Text[x.start:x.end], "\n")
		if of := x.picture; of != nil {
			lines, x.control = []string{fmt.Sprintf("picture, %d × %d, read as %d × %d", of.Width, of.Height, of.ReadWidth, of.ReadHeight)}, false
		}
		for i, line := range lines {
			if line == "" && i > 0 {
				break
			}
			shown := strings.ReplaceAll(line, "\n", "⏎")
			switch {
			case x.control:
				shown = mark(shown)
			case !x.template:
				shown = own(shown)
			}
			head := fmt.Sprintf("%6d  %-*s", x.tokens, width, x.origin)
			if i > 0 {
				head = fmt.Sprintf("%6s  %-*s", "", width, "")
			}
			fmt.Fprintf(t.out, "%s  %s\n", head, shown)
		}
	}
	fmt.Fprintln(t.out)
	printTurns(t.out, p)
	for _, w := range p.Warnings {
		fmt.Fprintf(t.err, "kindred: %s\n", w)
	}
	return nil
}

// printTurns says what each turn costs.
func printTurns(out io.Writer, p server.RenderedPrompt) {
	var list []string
	sum := 0
	for _, turn := range p.Turns {
		list = append(list, fmt.Sprintf("%s (%s) %d", turn.Origin, turn.Role, turn.Tokens))
		sum += turn.Tokens
	}
	fmt.Fprintf(out, "Tokens by turn: %s; the template's own: %d.\n", strings.Join(list, ", "), p.Tokens-sum)
}
