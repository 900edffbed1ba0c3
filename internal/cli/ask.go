package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/dialect"
	"kindredgate/internal/picture"
	"kindredgate/internal/server"
	"kindredgate/internal/snippet"
)

// pictureOf is a file as a data URL, if it is a picture.
func pictureOf(path string, raw []byte) (url string, ok bool, err error) {
	kind := http.DetectContentType(raw)
	if !strings.HasPrefix(kind, "image/") {
		return "", false, nil
	}
	if _, err := picture.Look(raw, math.MaxInt64); err != nil {
		return "", false, usageError{fmt.Errorf("%s: %w", path, err)}
	}
	return "data:" + kind + ";base64," + base64.StdEncoding.EncodeToString(raw), true, nil
}

// question is the text of the arguments, of files, and of what is piped in; "-" among the arguments stands for what is piped in. Files that are pictures
// go with the question.
func (t *terminal) question(args, paths []string) (text string, pictures []string, err error) {
	var parts []string
	piped := false
	for i, arg := range args {
		if arg != "-" {
			continue
		}
		args, piped = slices.Delete(slices.Clone(args), i, i+1), true
		break
	}
	if q := strings.TrimSpace(strings.Join(args, " ")); q != "" {
		parts = append(parts, q)
	}
	for _, path := range paths {
		raw, err := os.ReadFile(path)
		if err != nil {
			return "", nil, err
		}
		if url, ok, err := pictureOf(path, raw); err != nil {
			return "", nil, err
		} else if ok {
			pictures = append(pictures, url)
			continue
		}
		if kind, _, _ := strings.Cut(http.DetectContentType(raw), ";"); !strings.HasPrefix(kind, "text/") && !utf8.Valid(raw) {
			return "", nil, usageError{fmt.Errorf("--file %s is %s: a question takes texts and pictures (PNG, JPEG, GIF, WebP)", path, kind)}
		}
		parts = append(parts, strings.TrimSpace(string(raw)))
	}
	if piped || t.pipedIn() {
		raw, err := t.readPiped()
		if err != nil {
			return "", nil, err
		}
		if text := strings.TrimSpace(string(raw)); text != "" {
			parts = append(parts, text)
		}
	}
	if len(parts) == 0 {
		return "", nil, usageError{errors.New("there is no question; give one, or pipe a text in")}
	}
	return strings.Join(parts, "\n\n"), pictures, nil
}

// pipedIn reports whether standard input is a pipe or a file, which somebody means by it.
func (t *terminal) pipedIn() bool {
	file, ok := t.in.(*os.File)
	if !ok {
		return t.in != nil
	}
	info, err := file.Stat()
	return err == nil && (info.Mode()&os.ModeNamedPipe != 0 || info.Mode().IsRegular())
}

// readPiped reads standard input to its end. If nothing comes for a while, it says what it waits for: some programs leave a pipe open
// that they never write to.
func (t *terminal) readPiped() ([]byte, error) {
	hint := time.AfterFunc(3*time.Second, func() {
		fmt.Fprintln(t.err, "kindred: waiting for the text on standard input to end; with \"< /dev/null\" there is none")
	})
	defer hint.Stop()
	return io.ReadAll(t.in)
}

// questionFlags are the options that make up a question.
type questionFlags struct {
	question
	temperature float64
	seed        int64
}

func (q *questionFlags) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVarP(&q.Model, "model", "m", "", "model to ask, by name, the beginning of its name or its number (default the only one)")
	f.StringVarP(&q.Instructions, "instructions", "i", "", "what the model is told ahead of the question")
	f.Float64VarP(&q.temperature, "temperature", "t", 0, "0 for the most likely answer, more for more variety (default the model's own)")
	f.Int64Var(&q.seed, "seed", 0, "same seed, same answer (default by chance)")
	f.StringSliceVar(&q.Tools, "tools", nil, "tool servers (SERVER), or tools (SERVER/TOOL), that the gate runs for the model; may be repeated")
	f.BoolVar(&q.Unasked, "run-all", false, "run tools that change something without asking first")
	f.IntVarP(&q.MaxTokens, "max-tokens", "n", 0, "longest answer, in tokens (default as long as the context holds; 256 for a prompt)")
}

// style is the style that was named; where it was not, and there are tools, the one that has them.
func (q *questionFlags) style(cmd *cobra.Command, named string) string {
	if len(q.Tools) > 0 && !cmd.Flags().Changed("style") {
		return string(dialect.Response)
	}
	return named
}

// read fills in what was given.
func (q *questionFlags) read(cmd *cobra.Command) {
	if cmd.Flags().Changed("temperature") {
		q.Temperature = &q.temperature
	}
	if cmd.Flags().Changed("seed") {
		q.Seed = &q.seed
	}
}

func (t *terminal) ask() *cobra.Command {
	flags := clientFlags{application: true}
	var q questionFlags
	var styleName string
	var paths []string
	var noStream, asJSON, showPrompt bool
	cmd := &cobra.Command{
		Use:   "ask QUESTION",
		Short: "Ask a model a question, in any style",
		Long: "Ask a model a question, in any style. Text that is piped in, and files, join the question; files that are pictures go with\n" +
			"it, to models that take them.\n" +
			"On a terminal, without a question, a conversation begins: see \"kindred talk\".",
		Example: `  kindred ask "When is the last boat to Osmer?"
  kindred ask --style completion "The last boat to Osmer"
  cat timetable.txt | kindred ask "Sum this up in one sentence."
  kindred ask --tools ferry --run-all "Find the next boat to Osmer after 10:00 and hold 2 seats."
  kindred ask --style embedding "a boat" "a ferry" "a cave"`,
		RunE: func(c *cobra.Command, args []string) error {
			q.read(c)
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			gate.exact = asJSON || !isTerminal(t.out)
			if styleName == string(dialect.Embedding) {
				return t.compareTexts(c.Context(), gate, q.Model, args, paths, asJSON)
			}
			s, err := styleNamed(q.style(c, styleName), q.question)
			if err != nil {
				return err
			}
			if len(args)+len(paths) == 0 && isTerminal(t.in) && isTerminal(t.out) && !asJSON {
				return t.converse(c.Context(), gate, s, q.question, "")
			}
			if q.Text, q.Pictures, err = t.question(args, paths); err != nil {
				return err
			}
			if s, err = styleNamed(string(s.Style), q.question); err != nil {
				return err
			}
			if q.Model, err = gate.model(c.Context(), q.Model); err != nil {
				return err
			}
			if showPrompt {
				if err := t.showPrompt(c.Context(), gate, s, q.question); err != nil {
					return err
				}
			}
			if noStream || asJSON {
				return t.askWhole(c.Context(), gate, s, q.question, asJSON)
			}
			_, err = t.answer(c.Context(), gate, s, q.question, false, t.approve)
			return err
		},
	}
	flags.add(cmd)
	q.add(cmd)
	f := cmd.Flags()
	f.StringVarP(&styleName, "style", "s", string(dialect.Chat), "how to put the question: "+strings.Join(append(styleNames(), string(dialect.Embedding)), ", "))
	f.StringSliceVarP(&paths, "file", "f", nil, "file whose text joins the question, or picture that goes with it; may be repeated")
	f.BoolVarP(&q.Think, "reason", "r", false, "have the model reason first; the reasoning goes to standard error")
	f.BoolVar(&showPrompt, "show-prompt", false, "show the prompt that the model gets, on standard error; needs the owner key")
	f.BoolVar(&noStream, "no-stream", false, "print the answer when it is whole")
	f.BoolVarP(&asJSON, "json", "j", false, "print the gate's answer as JSON, whole")
	return cmd
}

// showPrompt shows what the question becomes.
func (t *terminal) showPrompt(ctx context.Context, gate *client, s style, q question) error {
	body := map[string]any{"style": dialect.Chat, "model": q.Model, "messages": q.conversation(), "reasoning_effort": "none"}
	if q.Think {
		body["reasoning_effort"] = effort(q)
	}
	if s.Style == dialect.Completion {
		body = map[string]any{"style": dialect.Completion, "model": q.Model, "prompt": q.said()}
	}
	var p server.RenderedPrompt
	if err := gate.call(ctx, http.MethodPost, "/gate/prompt/render", body, &p); err != nil {
		return err
	}
	_, err := fmt.Fprintln(t.err, paint(t.err, color.Faint)(p.Text)+"\n")
	return err
}

func (t *terminal) askWhole(ctx context.Context, gate *client, s style, q question, asJSON bool) error {
	var raw json.RawMessage
	if err := gate.call(ctx, http.MethodPost, s.url(), s.body(q), &raw); err != nil {
		return err
	}
	if asJSON {
		return t.printJSON(raw)
	}
	text, err := s.text(raw)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(t.out, text)
	return err
}

// spoken is what came of a question.
type spoken struct {
	text, reasoning string
	usage           usage
	thought         int // pieces of reasoning, each of which is about a token
	first, took     time.Duration
	before          time.Duration // what the gate took until the first token; 0 if it did not say
	cut             bool          // at the limit of tokens
	wanted          []wanted      // calls that want to be approved
	response        string        // the id of the response
}

// answer prints an answer as it comes. Calls that want to be approved are asked about, and the answer continues with what is said.
func (t *terminal) answer(ctx context.Context, gate *client, s style, q question, fold bool, approve func(context.Context, string) (bool, error)) (a spoken, err error) {
	for {
		more, err := t.stream(ctx, gate, s, q, fold)
		a.text, a.reasoning, a.took, a.cut = a.text+more.text, a.reasoning+more.reasoning, a.took+more.took, more.cut
		a.first, a.usage = cmp.Or(a.first, more.first), usage{a.usage.Prompt + more.usage.Prompt, a.usage.Completion + more.usage.Completion}
		if err != nil || len(more.wanted) == 0 {
			return a, err
		}
		q.Previous, q.Approvals = more.response, nil
		for _, w := range more.wanted {
			ok, err := approve(ctx, fmt.Sprintf("Run %s/%s %s? [y/N] ", shown(w.Server), shown(w.Name), shown(w.Arguments)))
			if err != nil {
				return a, fmt.Errorf("%s/%s has to be approved: %w", w.Server, w.Name, err)
			}
			q.Approvals = append(q.Approvals, approval{"mcp_approval_response", w.ID, ok})
		}
	}
}

// approve asks whether a tool is to be run.
func (t *terminal) approve(_ context.Context, question string) (bool, error) {
	if !isTerminal(t.in) {
		return false, errors.New("nobody is there to be asked; --run-all runs such tools without")
	}
	answer, err := t.ask1(question)
	return isYes(answer), err
}

// stream prints an answer as it comes. With fold the reasoning is counted rather than shown.
func (t *terminal) stream(ctx context.Context, gate *client, s style, q question, fold bool) (a spoken, err error) {
	q.Stream = true
	begun := time.Now()
	life := t.lifeLine()
	defer life("")
	life("waiting for the model")
	resp, err := gate.send(ctx, http.MethodPost, s.url(), s.body(q))
	if err != nil {
		return a, err
	}
	defer resp.Body.Close()
	a.before = sumOf(resp.Header.Get("Server-Timing"))
	quiet := paint(t.err, color.Faint)
	safe := shown
	if !isTerminal(t.out) {
		safe = func(s string) string { return s }
	}
	open := false // something of the answer stands in the last line
	reasoned := false
	for data, err := range events(resp.Body, func(comment string) {
		if !open && !strings.Contains(comment, "dur=") { // the timings at the end are for programs
			life(comment)
		}
	}) {
		if err != nil {
			life("")
			if open {
				fmt.Fprintln(t.out)
			}
			return a, err
		}
		p, err := s.piece(data)
		if err != nil {
			return a, fmt.Errorf("a piece of the gate's answer: %w", err)
		}
		if a.first == 0 && p.text+p.reasoning != "" {
			a.first = time.Since(begun)
		}
		a.text, a.reasoning = a.text+p.text, a.reasoning+p.reasoning
		if p.doing != "" && !open {
			life(p.doing)
		}
		if p.did != "" {
			life("")
			if open {
				fmt.Fprintln(t.out)
				open = false
			}
			fmt.Fprintln(t.err, quiet(shown("  "+strings.Join(strings.Fields(p.did), " "))))
		}
		if p.wanted != nil {
			a.wanted = append(a.wanted, *p.wanted)
		}
		a.response = cmp.Or(p.response, a.response)
		if p.reasoning != "" {
			a.thought++
			if fold {
				life(fmt.Sprintf("reasoning, %d tokens so far", a.thought))
			} else {
				life("")
				reasoned = true
				fmt.Fprint(t.err, quiet(shown(p.reasoning)))
			}
		}
		if p.text != "" {
			life("")
			if reasoned {
				reasoned = false
				fmt.Fprint(t.err, "\n\n")
			}
			open = true
			if _, err := fmt.Fprint(t.out, safe(p.text)); err != nil {
				return a, err
			}
		}
		if p.finish != "" {
			life("")
			if open || len(a.wanted) == 0 {
				fmt.Fprintln(t.out)
			}
			open, a.cut = false, p.finish == "length"
		}
		if a.cut && p.finish != "" {
			fmt.Fprintln(t.err, "kindred: the answer was cut off at the limit of tokens")
		}
		if p.usage != nil {
			a.usage = *p.usage
		}
	}
	a.took = time.Since(begun)
	if isTerminal(t.err) {
		fmt.Fprintln(t.err, quiet(a.figures(q.Model)))
	}
	return a, nil
}

// sumOf adds up the durations of a Server-Timing header (Server Timing, section 3), which are in milliseconds.
func sumOf(header string) time.Duration {
	sum := 0.0
	for _, metric := range strings.Split(header, ",") {
		_, duration, _ := strings.Cut(metric, ";dur=")
		if ms, err := strconv.ParseFloat(strings.TrimSpace(duration), 64); err == nil {
			sum += ms
		}
	}
	return time.Duration(sum * float64(time.Millisecond))
}

// figures are the tokens and the time of an answer. By what the gate says of its beginning the rate is right also where
// the pieces came all at once.
func (a spoken) figures(model string) string {
	begun := a.first
	if a.before > 0 {
		begun = min(begun, a.before)
	}
	rate := float64(a.usage.Completion) / max(a.took-begun, time.Millisecond).Seconds()
	return fmt.Sprintf("%s · %d + %d tokens · first after %d ms · %.0f tokens/s", shown(model), a.usage.Prompt, a.usage.Completion, a.first.Milliseconds(), rate)
}

// lifeLine gives a function that shows in one line what is waited for, on a terminal that can take it away again; "" takes it away.
func (t *terminal) lifeLine() func(string) {
	if !isTerminal(t.err) || dumb() {
		return func(string) {}
	}
	quiet := paint(t.err, color.Faint)
	there := false
	return func(what string) {
		if what != "" || there {
			fmt.Fprint(t.err, "\r\x1b[K")
		}
		if there = what != ""; there {
			fmt.Fprint(t.err, quiet(shown(what)+" …"))
		}
	}
}

// compareTexts shows how alike texts are to an embedding model.
func (t *terminal) compareTexts(ctx context.Context, gate *client, model string, texts, paths []string, asJSON bool) error {
	for _, path := range paths {
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		texts = append(texts, strings.TrimSpace(string(raw)))
	}
	if len(texts) == 0 {
		text, _, err := t.question(nil, nil)
		if err != nil {
			return err
		}
		texts = strings.Split(text, "\n") // a text a line
	}
	model, err := gate.embedder(ctx, model)
	if err != nil {
		return err
	}
	var raw json.RawMessage
	if err := gate.call(ctx, http.MethodPost, "/v1"+dialect.Embedding.Path(), map[string]any{"model": model, "input": texts}, &raw); err != nil {
		return err
	}
	if asJSON {
		return t.printJSON(raw)
	}
	var answer struct {
		Data  []struct{ Embedding []float64 }
		Usage usage
	}
	if err := json.Unmarshal(raw, &answer); err != nil || len(answer.Data) != len(texts) {
		return fmt.Errorf("the gate's answer has no vectors: %.200s", raw)
	}
	head := []string{"", "TEXT"}
	rows := [][]string{}
	for i, text := range texts {
		head = append(head, fmt.Sprint(i+1))
		row := []string{fmt.Sprint(i + 1), shortened(text, 40)}
		for j := range texts {
			row = append(row, fmt.Sprintf("%.3f", cosine(answer.Data[i].Embedding, answer.Data[j].Embedding)))
		}
		rows = append(rows, row)
	}
	if err := table(t.out, append([][]string{head}, rows...)...); err != nil {
		return err
	}
	_, err = fmt.Fprintf(t.out, "\n%s · %d tokens · %d numbers each · 1 is alike, 0 has nothing in common\n", shown(model), answer.Usage.Prompt, len(answer.Data[0].Embedding))
	return err
}

// cosine is the similarity of two vectors: the cosine of the angle between them.
func cosine(a, b []float64) float64 {
	var dot, x, y float64
	for i := range min(len(a), len(b)) {
		dot, x, y = dot+a[i]*b[i], x+a[i]*a[i], y+b[i]*b[i]
	}
	if x == 0 || y == 0 {
		return 0
	}
	return dot / math.Sqrt(x*y)
}

// snippet prints a request as a program.
func (t *terminal) snippet() *cobra.Command {
	var flags clientFlags
	var q questionFlags
	var styleName, language string
	styleNames, languages := snippet.Names()
	cmd := &cobra.Command{
		Use:   "snippet QUESTION",
		Short: "Print a question as a command line or a program that asks it",
		Long: "Print a question as a command line or a program that asks it. It takes the key from the environment variable " + snippet.KeyVariable +
			", so that what is copied holds no secret.",
		Example: `  kindred snippet "When is the last boat to Osmer?"
  kindred snippet --style generate --lang python "When is the last boat to Osmer?"
  kindred snippet --style embedding --lang go "When is the last boat to Osmer?"`,
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var err error
			if q.Text, _, err = t.question(args, nil); err != nil {
				return err
			}
			q.read(c)
			var body any
			if styleName == string(dialect.Embedding) {
				if q.Model, err = gate.embedder(c.Context(), q.Model); err != nil {
					return err
				}
				body = struct {
					Model string `json:"model"`
					Input string `json:"input"`
				}{q.Model, q.Text}
			} else {
				s, err := styleNamed(styleName, q.question)
				if err != nil {
					return err
				}
				if q.Model, err = gate.model(c.Context(), q.Model); err != nil {
					return err
				}
				body = s.body(q.question)
			}
			var raw bytes.Buffer
			e := json.NewEncoder(&raw)
			e.SetEscapeHTML(false)
			if err := e.Encode(body); err != nil {
				return err
			}
			text, err := snippet.Write(styleName, language, gate.base+"/v1", raw.Bytes())
			if err != nil {
				return usageError{err}
			}
			_, err = fmt.Fprint(t.out, text)
			return err
		}),
	}
	flags.add(cmd)
	q.add(cmd)
	cmd.Flags().StringVarP(&styleName, "style", "s", string(dialect.Chat), "style of the request: "+strings.Join(styleNames, ", "))
	cmd.Flags().StringVarP(&language, "lang", "l", "curl", "what to write it in: "+strings.Join(languages, ", "))
	return cmd
}

// printJSON prints a document with indentation.
func (t *terminal) printJSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := t.out.Write(printableJSON(b.Bytes()))
	return err
}
