package cli

import (
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
)

// message is a turn of a chat request.
type message struct {
	Role    string `json:"role"`
	Content string `json:"content"`
}

// chatRequest is what the commands send in the chat style.
type chatRequest struct {
	Model         string         `json:"model"`
	Messages      []message      `json:"messages"`
	Stream        bool           `json:"stream,omitempty"`
	StreamOptions *streamOptions `json:"stream_options,omitempty"`
	Temperature   *float64       `json:"temperature,omitempty"`
	Seed          *int64         `json:"seed,omitempty"`
	MaxTokens     int            `json:"max_tokens,omitempty"`
	Effort        string         `json:"reasoning_effort,omitempty"`
}

type streamOptions struct {
	IncludeUsage bool `json:"include_usage"`
}

// conversation is one question, with instructions if there are any.
func conversation(instructions, question string) (list []message) {
	if instructions != "" {
		list = append(list, message{"system", instructions})
	}
	return append(list, message{"user", question})
}

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

func (t *terminal) ask() *cobra.Command {
	var flags clientFlags
	var model, instructions string
	var temperature float64
	var seed int64
	var maxTokens int
	var noStream, asJSON, think bool
	cmd := &cobra.Command{
		Use:   "ask QUESTION",
		Short: "Ask a model a question",
		Example: `  kindred ask "When is the last boat to Osmer?"
  kindred ask --instructions "Answer in one short sentence." - < question.txt`,
		RunE: func(c *cobra.Command, args []string) error {
			question, err := t.question(args)
			if err != nil {
				return err
			}
			gate, err := flags.open()
			if err != nil {
				return err
			}
			req := chatRequest{Messages: conversation(instructions, question), MaxTokens: maxTokens}
			if c.Flags().Changed("temperature") {
				req.Temperature = &temperature
			}
			if c.Flags().Changed("seed") {
				req.Seed = &seed
			}
			if think {
				req.Effort = "medium"
			}
			if req.Model, err = gate.model(c.Context(), model); err != nil {
				return err
			}
			if noStream || asJSON {
				return t.askWhole(c.Context(), gate, req, asJSON)
			}
			return t.askStreaming(c.Context(), gate, req)
		},
	}
	flags.add(cmd)
	f := cmd.Flags()
	f.StringVar(&model, "model", "", "model to ask (default the only one)")
	f.StringVar(&instructions, "instructions", "", "what the model is told ahead of the question")
	f.Float64Var(&temperature, "temperature", 0, "0 for the most likely answer, more for more variety (default the model's own)")
	f.Int64Var(&seed, "seed", 0, "same seed, same answer (default by chance)")
	f.IntVar(&maxTokens, "max-tokens", 0, "longest answer, in tokens (default as long as the context holds)")
	f.BoolVar(&think, "think", false, "have the model reason first; the reasoning goes to standard error")
	f.BoolVar(&noStream, "no-stream", false, "print the answer when it is whole")
	f.BoolVar(&asJSON, "json", false, "print the gate's answer as JSON, whole")
	return cmd
}

func (t *terminal) askWhole(ctx context.Context, gate *client, req chatRequest, asJSON bool) error {
	var raw json.RawMessage
	if err := gate.call(ctx, http.MethodPost, "/v1/chat/completions", req, &raw); err != nil {
		return err
	}
	if asJSON {
		return t.printJSON(raw)
	}
	var answer struct {
		Choices []struct {
			Message message `json:"message"`
		} `json:"choices"`
	}
	if err := json.Unmarshal(raw, &answer); err != nil || len(answer.Choices) == 0 {
		return fmt.Errorf("the gate's answer has no text: %s", raw)
	}
	_, err := fmt.Fprintln(t.out, answer.Choices[0].Message.Content)
	return err
}

func (t *terminal) askStreaming(ctx context.Context, gate *client, req chatRequest) error {
	req.Stream = true
	req.StreamOptions = &streamOptions{IncludeUsage: true}
	begun := time.Now()
	resp, err := gate.send(ctx, http.MethodPost, "/v1/chat/completions", req)
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
		var chunk struct {
			Choices []struct {
				Delta struct {
					Content   string `json:"content"`
					Reasoning string `json:"reasoning_content"`
				} `json:"delta"`
				FinishReason *string `json:"finish_reason"`
			} `json:"choices"`
			Usage *struct {
				Prompt     int `json:"prompt_tokens"`
				Completion int `json:"completion_tokens"`
			} `json:"usage"`
		}
		if err := json.Unmarshal(data, &chunk); err != nil {
			return fmt.Errorf("the gate sent a piece that is not JSON: %w", err)
		}
		for _, choice := range chunk.Choices {
			if first == 0 && choice.Delta.Content+choice.Delta.Reasoning != "" {
				first = time.Since(begun)
			}
			if choice.Delta.Reasoning != "" {
				reasoned = true
				fmt.Fprint(t.err, quiet(choice.Delta.Reasoning))
			} else if reasoned {
				reasoned = false
				fmt.Fprint(t.err, "\n\n")
			}
			if _, err := fmt.Fprint(t.out, choice.Delta.Content); err != nil {
				return err
			}
			if choice.FinishReason != nil {
				fmt.Fprintln(t.out)
				if *choice.FinishReason == "length" {
					fmt.Fprintln(t.err, "kindred: the answer was cut off at the limit of tokens")
				}
			}
		}
		if u := chunk.Usage; u != nil && isTerminal(t.err) {
			rate := float64(u.Completion) / max(time.Since(begun)-first, time.Millisecond).Seconds()
			fmt.Fprintln(t.err, quiet(fmt.Sprintf("%s · %d + %d tokens · first after %d ms · %.0f tokens/s", req.Model, u.Prompt, u.Completion, first.Milliseconds(), rate)))
		}
	}
	return nil
}

// printJSON prints a document with indentation.
func (t *terminal) printJSON(v any) error {
	e := json.NewEncoder(t.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
