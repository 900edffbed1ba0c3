package remote

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"kindredgate/internal/exchange"
)

// Form describes a server that takes JSON over HTTP in a form of its own, and gives text.
type Form struct {
	Path string // below the URL; empty for the URL itself
	// Body is what is sent: JSON in which texts such as $model and $turns stand for what the request has. A field whose setting the request
	// leaves open is left out.
	Body any
	// Turn is what one turn looks like among $turns, with $role and $text.
	Turn any
	// Roles are the server's words for system, user, assistant and tool, where it has others.
	Roles map[string]string
	// Lines says that the answer comes as a JSON value on each line; else it is of server-sent events, or one JSON value.
	Lines bool
	// Text is where an answer that comes in one has its text, Piece where a piece of a stream has it: names and numbers with dots between.
	Text, Piece string
	// Done is where a piece says that it is the last; DoneIs what stands there, anything that is not null, false or empty if it is "".
	Done, DoneIs string
	// PromptTokens and AnswerTokens are where usage is told; empty where it is not.
	PromptTokens, AnswerTokens string
}

// Names of what can stand in a Body.
var placeholders = []string{"$model", "$turns", "$prompt", "$instructions", "$temperature", "$top_p", "$top_k", "$max_tokens", "$seed", "$stop"}

var formPath = regexp.MustCompile(`^[^.\s]+(\.[^.\s]+)*$`)

// Check reports what is wrong with a form by itself.
func (f *Form) Check() error {
	if f.Body == nil {
		return fmt.Errorf("form.body is missing: the JSON that is sent, with %s in it", strings.Join(placeholders, ", "))
	}
	asked := false
	var walk func(v any) error
	walk = func(v any) error {
		switch v := v.(type) {
		case string:
			if strings.HasPrefix(v, "$") {
				known := false
				for _, p := range placeholders {
					known = known || p == v
				}
				if !known {
					return fmt.Errorf("form.body has %q; these can stand there: %s", v, strings.Join(placeholders, ", "))
				}
				asked = asked || v == "$turns" || v == "$prompt"
			}
		case map[string]any:
			for _, inner := range v {
				if err := walk(inner); err != nil {
					return err
				}
			}
		case []any:
			for _, inner := range v {
				if err := walk(inner); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if err := walk(f.Body); err != nil {
		return err
	}
	if !asked {
		return fmt.Errorf("form.body has neither $turns nor $prompt, so that the server would not get what is asked")
	}
	if f.Text == "" && f.Piece == "" {
		return fmt.Errorf("form.text or form.piece is missing: where in the answer, or in a piece of it, the text is")
	}
	for name, path := range map[string]string{"text": f.Text, "piece": f.Piece, "done": f.Done, "prompt_tokens": f.PromptTokens, "answer_tokens": f.AnswerTokens} {
		if path != "" && !formPath.MatchString(path) {
			return fmt.Errorf("form.%s is %q; a place is written as names and numbers with dots between, such as reply.0.text", name, path)
		}
	}
	return nil
}

// formed makes an attempt in the server's own form.
func (m *Machine) formed(model string, req *exchange.Request) (attempt, error) {
	refuse := func(param, what string) error {
		return exchange.InvalidParam(param, "the machine %q takes no %s: its form has no place for that", m.name, what)
	}
	switch {
	case req.Raw != nil && (req.Raw.Tokens != nil || req.Raw.Suffix != "" || req.Raw.Echo):
		return nil, refuse("prompt", "prompts of tokens, suffixes or echoes")
	case len(req.Tools) > 0:
		return nil, refuse("tools", "tools")
	case req.Format.Kind != exchange.FormatText:
		return nil, refuse("response_format", "formats")
	case req.Candidates > 1:
		return nil, refuse("n", "several answers to one request")
	case req.Scores != nil:
		return nil, refuse("logprobs", "log-probabilities")
	}
	if err := reserve(req); err != nil {
		return nil, err
	}
	body, err := m.set.Form.fill(model, req)
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return m.attempt(call{path: m.set.Form.Path, body: raw, req: req, lines: m.set.Form.Lines, decode: func() decoder {
		return &formDecoder{answer: newAnswer(m, req), form: m.set.Form}
	}}), nil
}

// fill puts a request into the body.
func (f *Form) fill(model string, req *exchange.Request) (any, error) {
	turns := req.Turns
	if req.Raw != nil {
		turns = []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(req.Raw.Text)}}}
	}
	values := map[string]any{"$model": model}
	var list []any
	instructions := ""
	for _, t := range turns {
		for _, p := range t.Parts {
			if image, ok := p.(exchange.Image); ok {
				return nil, image.Untaken()
			}
		}
		role := string(t.Role)
		if word, ok := f.Roles[role]; ok {
			role = word
		}
		turn := f.Turn
		if turn == nil {
			turn = map[string]any{"role": "$role", "text": "$text"}
		}
		v, _ := replace(turn, map[string]any{"$role": role, "$text": t.Text()})
		list = append(list, v)
		if t.Role == exchange.System {
			instructions = strings.TrimSpace(instructions + "\n" + t.Text())
		}
	}
	values["$turns"] = list
	if n := len(turns); n > 0 {
		values["$prompt"] = turns[n-1].Text()
	}
	if instructions != "" {
		values["$instructions"] = instructions
	}
	s := req.Sampling
	for name, v := range map[string]*float64{"$temperature": s.Temperature, "$top_p": s.TopP} {
		if v != nil {
			values[name] = *v
		}
	}
	if s.TopK != nil {
		values["$top_k"] = *s.TopK
	}
	if s.Seed != nil {
		values["$seed"] = *s.Seed
	}
	if req.MaxTokens > 0 {
		values["$max_tokens"] = req.MaxTokens
	}
	if len(req.Stop) > 0 {
		values["$stop"] = req.Stop
	}
	v, _ := replace(f.Body, values)
	return v, nil
}

// replace puts values in their places; ok is false for a place that has none.
func replace(v any, values map[string]any) (_ any, ok bool) {
	switch v := v.(type) {
	case string:
		if !strings.HasPrefix(v, "$") {
			return v, true
		}
		value, ok := values[v]
		return value, ok
	case map[string]any:
		out := map[string]any{}
		for name, inner := range v {
			if value, ok := replace(inner, values); ok {
				out[name] = value
			}
		}
		return out, true
	case []any:
		out := []any{}
		for _, inner := range v {
			if value, ok := replace(inner, values); ok {
				out = append(out, value)
			}
		}
		return out, true
	}
	return v, true
}

// place finds what is at a place of a JSON value.
func place(v any, path string) (any, bool) {
	if path == "" {
		return nil, false
	}
	for name := range strings.SplitSeq(path, ".") {
		switch inner := v.(type) {
		case map[string]any:
			next, ok := inner[name]
			if !ok {
				return nil, false
			}
			v = next
		case []any:
			n, err := strconv.Atoi(name)
			if err != nil || n < 0 || n >= len(inner) {
				return nil, false
			}
			v = inner[n]
		default:
			return nil, false
		}
	}
	return v, true
}

// formDecoder reads answers in a server's own form.
type formDecoder struct {
	answer
	form *Form
}

func (d *formDecoder) piece(data []byte, emit emitter) (bool, error) {
	at := d.form.Piece
	if at == "" {
		at = d.form.Text
	}
	v, err := d.read(data, at, emit)
	if err != nil || d.form.Done == "" {
		return false, err
	}
	said, there := place(v, d.form.Done)
	last := there && said != nil && said != false && said != ""
	if d.form.DoneIs != "" {
		last = there && fmt.Sprint(said) == d.form.DoneIs
	}
	if last {
		return true, d.reason(0, "stop")
	}
	return false, nil
}

func (d *formDecoder) whole(data []byte, emit emitter) error {
	at := d.form.Text
	if at == "" {
		at = d.form.Piece
	}
	v, err := d.read(data, at, emit)
	if err != nil {
		return err
	}
	if _, ok := place(v, at); !ok {
		return broken("there is no %s in it, where its text is to be", at)
	}
	if err := d.reason(0, "stop"); err != nil {
		return err
	}
	return d.end(true, emit)
}

// end of a stream that has no word for it is where it ends.
func (d *formDecoder) end(said bool, emit emitter) error {
	if !said && d.form.Done == "" && d.begun {
		if err := d.reason(0, "stop"); err != nil {
			return err
		}
	}
	return d.answer.end(said, emit)
}

func (d *formDecoder) read(data []byte, at string, emit emitter) (any, error) {
	var v any
	if err := json.Unmarshal(data, &v); err != nil {
		return nil, broken("a piece of it is no JSON: %v", err)
	}
	count := func(path string, n *int) {
		if f, ok := place(v, path); ok {
			if f, ok := f.(float64); ok && f >= 0 && f <= mostTokens {
				*n = int(f)
			}
		}
	}
	u := usage{}
	if d.usage != nil {
		u = *d.usage
	}
	count(d.form.PromptTokens, &u.Prompt)
	count(d.form.AnswerTokens, &u.Completion)
	if u != (usage{}) {
		d.usage = &u
	}
	text, ok := place(v, at)
	if !ok || text == nil {
		return v, nil
	}
	words, ok := text.(string)
	if !ok {
		return nil, broken("at %s it has no text", at)
	}
	return v, d.text(0, words, nil, emit)
}
