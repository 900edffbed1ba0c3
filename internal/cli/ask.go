package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/server"
	"kindredgate/internal/snippet"
)

// question is the text of the arguments, or of standard input where that is "-", or where there is no argument
// and nobody sits at the keyboard.
func (t *terminal) question(args []string) (string, error) {
	q := strings.Join(args, " ")
	if q == "-" || q == "" && !isTerminal(t.in) {
		raw, err := io.ReadAll(t.in)
		if err != nil {
			return "", err
		}
		q = strings.TrimSpace(string(raw))
	}
	if q == "" {
		return "", usageError{errors.New("there is no question; give one, or \"-\" to read it from standard input")}
	}
	return q, nil
}

// questionFlags are the options that make up a question.
type questionFlags struct {
	question
	temperature float64
	seed        int64
}

func (q *questionFlags) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&q.Model, "model", "", "model to ask (default the only one)")
	f.StringVar(&q.Instructions, "instructions", "", "what the model is told ahead of the question")
	f.Float64Var(&q.temperature, "temperature", 0, "0 for the most likely answer, more for more variety (default the model's own)")
	f.Int64Var(&q.seed, "seed", 0, "same seed, same answer (default by chance)")
	f.IntVar(&q.MaxTokens, "max-tokens", 0, "longest answer, in tokens (default as long as the context holds; 256 for a raw prompt)")
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
	var flags clientFlags
	var q questionFlags
	var styleName string
	var noStream, asJSON, showPrompt bool
	cmd := &cobra.Command{
		Use:   "ask QUESTION",
		Short: "Ask a model a question, in any style",
		Example: `  kindred ask "When is the last boat to Osmer?"
  kindred ask --style raw "The last boat to Osmer"
  kindred ask --instructions "Answer in one short sentence." - < question.txt`,
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if q.Text, err = t.question(args); err != nil {
				return err
			}
			q.read(c)
			s, err := styleNamed(styleName, q.question)
			if err != nil {
				return err
			}
			gate, err := flags.open(c.Context())
			if err != nil {
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
			return t.askStreaming(c.Context(), gate, s, q.question)
		},
	}
	flags.add(cmd)
	q.add(cmd)
	f := cmd.Flags()
	f.StringVar(&styleName, "style", "chat", "how to put the question: chat, generate, response or raw")
	f.BoolVar(&q.Think, "reason", false, "have the model reason first; the reasoning goes to standard error")
	f.BoolVar(&showPrompt, "show-prompt", false, "show the prompt that the model gets, on standard error; needs the owner key")
	f.BoolVar(&noStream, "no-stream", false, "print the answer when it is whole")
	f.BoolVar(&asJSON, "json", false, "print the gate's answer as JSON, whole")
	return cmd
}

// showPrompt shows what the question becomes.
func (t *terminal) showPrompt(ctx context.Context, gate *client, s style, q question) error {
	body := map[string]any{"style": "chat", "model": q.Model, "messages": conversation(q.Instructions, q.Text), "reasoning_effort": "none"}
	if q.Think {
		body["reasoning_effort"] = effort(q)
	}
	if s.name == "raw" {
		body = map[string]any{"style": "raw", "model": q.Model, "prompt": q.Text}
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
	if err := gate.call(ctx, http.MethodPost, s.path, s.body(q), &raw); err != nil {
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

func (t *terminal) askStreaming(ctx context.Context, gate *client, s style, q question) error {
	q.Stream = true
	begun := time.Now()
	resp, err := gate.send(ctx, http.MethodPost, s.path, s.body(q))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var first time.Duration
	quiet := paint(t.err, color.Faint)
	reasoned := false
	for data, err := range events(resp.Body) {
		if err != nil {
			fmt.Fprintln(t.out)
			return err
		}
		p, err := s.piece(data)
		if err != nil {
			return fmt.Errorf("a piece of the gate's answer: %w", err)
		}
		if first == 0 && p.text+p.reasoning != "" {
			first = time.Since(begun)
		}
		if p.reasoning != "" {
			reasoned = true
			fmt.Fprint(t.err, quiet(p.reasoning))
		}
		if p.text != "" && reasoned {
			reasoned = false
			fmt.Fprint(t.err, "\n\n")
		}
		if _, err := fmt.Fprint(t.out, p.text); err != nil {
			return err
		}
		if p.finish != "" {
			fmt.Fprintln(t.out)
		}
		if p.finish == "length" {
			fmt.Fprintln(t.err, "kindred: the answer was cut off at the limit of tokens")
		}
		if u := p.usage; u != nil && isTerminal(t.err) {
			rate := float64(u.Completion) / max(time.Since(begun)-first, time.Millisecond).Seconds()
			fmt.Fprintln(t.err, quiet(fmt.Sprintf("%s · %d + %d tokens · first after %d ms · %.0f tokens/s", q.Model, u.Prompt, u.Completion, first.Milliseconds(), rate)))
		}
	}
	return nil
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
			if q.Text, err = t.question(args); err != nil {
				return err
			}
			q.read(c)
			var body any
			if styleName == "embedding" {
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
	cmd.Flags().StringVar(&styleName, "style", "chat", "style of the request: "+strings.Join(styleNames, ", "))
	cmd.Flags().StringVar(&language, "lang", "curl", "what to write it in: "+strings.Join(languages, ", "))
	return cmd
}

// printJSON prints a document with indentation.
func (t *terminal) printJSON(v any) error {
	e := json.NewEncoder(t.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
