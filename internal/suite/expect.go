package suite

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"kindredgate/internal/difference"
	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/sampling"
)

// Answer is what a model gave.
type Answer struct {
	Exchange   string // its id
	Text       string
	Calls      []kept.Call
	Tokens     int
	FirstToken time.Duration
	Took       time.Duration
}

// Ask asks a model.
type Ask func(ctx context.Context, req exchange.Request) (Answer, error)

// declining are words by which models decline.
var declining = regexp.MustCompile(`(?i)\b(?:can(?:no|')t|can not|could not|couldn't|unable to|not able to|(?:do not|don't) (?:know|have)|no information|not (?:sure|certain|known|mentioned|stated)|sorry|refuse|decline)\b`)

// unmet is what of the expectations an answer does not meet: the name of one, and why; "" if it meets all.
func (e *Expected) unmet(ctx context.Context, c Case, a Answer, ask Ask) (what, why string, err error) {
	text := strings.TrimSpace(a.Text)
	lower := strings.ToLower(text)
	said := fmt.Sprintf("%.200q", text)
	for _, want := range e.Holds {
		if !strings.Contains(lower, strings.ToLower(want)) {
			return "holds", fmt.Sprintf("%q is not in %s", want, said), nil
		}
	}
	for _, not := range e.Lacks {
		if strings.Contains(lower, strings.ToLower(not)) {
			return "lacks", fmt.Sprintf("%q is in %s", not, said), nil
		}
	}
	if e.Is != nil && text != strings.TrimSpace(*e.Is) {
		return "is", fmt.Sprintf("it is %s", said), nil
	}
	if e.pattern != nil && !e.pattern.MatchString(text) {
		return "fits", fmt.Sprintf("%s is not found in %s", e.Fits, said), nil
	}
	if e.schema != nil {
		doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		if err == nil {
			err = obeys(ctx, e.schema, doc)
		}
		if ctx.Err() != nil {
			return "", "", context.Cause(ctx)
		}
		if err != nil {
			return "obeys", fmt.Sprintf("%s: %.300s", said, strings.ReplaceAll(err.Error(), "\n", " ")), nil
		}
	}
	for name, with := range e.Calls {
		if why := called(a.Calls, name, with); why != "" {
			return "calls", why, nil
		}
	}
	if e.CallsNothing && len(a.Calls) > 0 {
		return "calls_nothing", fmt.Sprintf("it calls %s(%s)", a.Calls[0].Name, a.Calls[0].Arguments), nil
	}
	if e.Declines && !declining.MatchString(text) {
		return "declines", "it says " + said, nil
	}
	if e.Alike != nil {
		least := usualShare
		if e.Alike.AtLeast != nil {
			least = *e.Alike.AtLeast
		}
		if d := difference.Words(strings.TrimSpace(e.Alike.To), text); d.Alike() < least {
			return "alike", fmt.Sprintf("%.0f %% of the words are the same; they part at %s", d.Alike()*100, d.Parted()), nil
		}
	}
	if e.TokensAtMost > 0 && a.Tokens > e.TokensAtMost {
		return "tokens_at_most", fmt.Sprintf("it has %d tokens", a.Tokens), nil
	}
	if e.within > 0 && a.FirstToken > e.within {
		return "first_token_within", fmt.Sprintf("it took %s", a.FirstToken.Round(time.Millisecond)), nil
	}
	if e.Judged != nil {
		true, reason, err := judge(ctx, *e.Judged, c, a, ask)
		if err != nil {
			return "", "", fmt.Errorf("the judge %s: %w", e.Judged.By, err)
		}
		if !true {
			return "judged", fmt.Sprintf("%s: %.300s", e.Judged.By, reason), nil
		}
	}
	return "", "", nil
}

// called says why no call is of a tool with those arguments; "" if one is.
func called(calls []kept.Call, name string, with json.RawMessage) string {
	var wanted map[string]any
	if len(with) > 0 {
		if err := json.Unmarshal(with, &wanted); err != nil {
			return err.Error()
		}
	}
	why := fmt.Sprintf("%s is not called", name)
	for _, c := range calls {
		if c.Name != name {
			continue
		}
		var got map[string]any
		if err := json.Unmarshal([]byte(c.Arguments), &got); err != nil {
			why = fmt.Sprintf("the arguments of %s are no JSON object: %.200s", name, c.Arguments)
			continue
		}
		missing := ""
		for key, value := range wanted {
			if !same(value, got[key]) {
				missing = key
			}
		}
		if missing == "" {
			return ""
		}
		why = fmt.Sprintf("%s is called with %.200s, where %s is to be %v", name, c.Arguments, missing, wanted[missing])
	}
	return why
}

// same compares values; texts in any case of letters.
func same(a, b any) bool {
	x, ok := a.(string)
	y, ok2 := b.(string)
	if ok && ok2 {
		return strings.EqualFold(strings.TrimSpace(x), strings.TrimSpace(y))
	}
	return reflect.DeepEqual(a, b)
}

// verdict is the form that a judge's answer is kept to.
const verdict = `{"type":"object","properties":{"reason":{"type":"string","maxLength":300},"true":{"type":"boolean"}},"required":["reason","true"],"additionalProperties":false}`

// longVerdict is how many tokens a judge may take.
const longVerdict = 400

// judge has a model decide.
func judge(ctx context.Context, j Judged, c Case, a Answer, ask Ask) (is bool, reason string, err error) {
	var b strings.Builder
	for _, t := range c.Said {
		for who, text := range map[string]*string{"Instructions": t.System, "Answer before": t.Assistant} {
			if text != nil {
				fmt.Fprintf(&b, "%s: %s\n", who, *text)
			}
		}
		for _, p := range t.User {
			fmt.Fprintf(&b, "Question: %s\n", cmp.Or(p.Text, "[a picture]")) // the judge may be a model of text
		}
	}
	fmt.Fprintf(&b, "\nThe answer to be judged:\n%s\n\nIs this true of the answer: %s? Give a reason first.", a.Text, strings.TrimRight(j.Whether, "?. "))
	cold, seed := 0.0, int64(1)
	got, err := ask(ctx, exchange.Request{
		Model: j.By, MaxTokens: longVerdict, Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: &cold}, Seed: &seed},
		Turns: []exchange.Turn{
			{Role: exchange.System, Parts: []exchange.Part{exchange.Text("You judge answers. You say in JSON whether a statement is true of an answer, with a reason.")}},
			{Role: exchange.User, Parts: []exchange.Part{exchange.Text(b.String())}},
		},
		Format: exchange.Format{Kind: exchange.FormatSchema, Schema: json.RawMessage(verdict), Strict: true, At: "judged"},
	})
	if err != nil {
		return false, "", err
	}
	var v struct {
		Reason string `json:"reason"`
		True   *bool  `json:"true"`
	}
	if err := json.Unmarshal([]byte(got.Text), &v); err != nil || v.True == nil {
		return false, "", fmt.Errorf("it gave no verdict: %.200q", got.Text)
	}
	return *v.True, v.Reason, nil
}
