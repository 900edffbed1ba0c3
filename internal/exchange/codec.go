package exchange

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"unicode/utf8"
)

// This file is how requests and events are written down: for records, to ask the same again, and for other machines. The form is
// JSON by the fields' tags. Members of the closed sets have their kind as the only key of an object around them. What one side
// writes and the other does not know is an error, since a request without it would be another one.

// Encode gives a request as JSON, without what a gate adds to it: its owner, fingerprint and compiled forms.
func (r *Request) Encode() ([]byte, error) { return encode(r) }

// DecodeRequest reads what [Request.Encode] gave.
func DecodeRequest(doc []byte) (*Request, error) {
	var r Request
	if err := decode(doc, &r); err != nil {
		return nil, fmt.Errorf("a request: %w", err)
	}
	if !slices.Contains([]FormatKind{FormatText, FormatObject, FormatSchema}, r.Format.Kind) {
		return nil, fmt.Errorf("a request: a format of kind %.40q is not known", r.Format.Kind)
	}
	for i, t := range r.Turns {
		switch {
		case !slices.Contains([]Role{System, User, Assistant, ToolRole}, t.Role):
			return nil, fmt.Errorf("a request: turn %d: role %.40q is not known", i, t.Role)
		case t.Preset < 0 || t.Preset > len(t.Parts):
			return nil, fmt.Errorf("a request: turn %d: %d of %d parts cannot be a preset's", i, t.Preset, len(t.Parts))
		}
	}
	return &r, nil
}

// eventBox is an event with its kind.
type eventBox struct {
	Started   *Started        `json:"started,omitempty"`
	Reasoning *ReasoningDelta `json:"reasoning,omitempty"`
	Text      *TextDelta      `json:"text,omitempty"`
	ToolCall  *ToolCallDelta  `json:"tool_call,omitempty"`
	Finish    *Finish         `json:"finish,omitempty"`
	Listed    *ToolsListed    `json:"tools_listed,omitempty"`
	StepBegan *StepBegan      `json:"step_began,omitempty"`
	StepEnded *StepEnded      `json:"step_ended,omitempty"`
	Run       *RunDelta       `json:"run,omitempty"`
	RunEnded  *RunEnded       `json:"run_ended,omitempty"`
	Approval  *ApprovalWanted `json:"approval_wanted,omitempty"`
}

// EncodeEvent gives an event as JSON.
func EncodeEvent(e Event) ([]byte, error) {
	var box eventBox
	switch e := e.(type) {
	case Started:
		box.Started = &e
	case ReasoningDelta:
		box.Reasoning = &e
	case TextDelta:
		box.Text = &e
	case ToolCallDelta:
		box.ToolCall = &e
	case Finish:
		box.Finish = &e
	case ToolsListed:
		box.Listed = &e
	case StepBegan:
		box.StepBegan = &e
	case StepEnded:
		box.StepEnded = &e
	case RunDelta:
		box.Run = &e
	case RunEnded:
		box.RunEnded = &e
	case ApprovalWanted:
		box.Approval = &e
	default:
		return nil, fmt.Errorf("%T is no event that can be written down", e)
	}
	return encode(box)
}

// DecodeEvent reads what [EncodeEvent] gave.
func DecodeEvent(doc []byte) (Event, error) {
	var box eventBox
	if err := decode(doc, &box); err != nil {
		return nil, fmt.Errorf("an event: %w", err)
	}
	event, err := only[Event](opened(box.Started), opened(box.Reasoning), opened(box.Text), opened(box.ToolCall), opened(box.Finish),
		opened(box.Listed), opened(box.StepBegan), opened(box.StepEnded), opened(box.Run), opened(box.RunEnded), opened(box.Approval))
	if err != nil {
		return nil, fmt.Errorf("an event: %w", err)
	}
	if f, ok := event.(Finish); ok && !slices.Contains([]Reason{Stopped, Length, Called, Filtered}, f.Reason) {
		return nil, fmt.Errorf("an event: reason %.40q is not known", f.Reason)
	}
	return event, nil
}

// partBox is a part with its kind.
type partBox struct {
	Text       *Text       `json:"text,omitempty"`
	Refusal    *Refusal    `json:"refusal,omitempty"`
	Image      *Image      `json:"image,omitempty"`
	ToolCall   *ToolCall   `json:"tool_call,omitempty"`
	ToolResult *ToolResult `json:"tool_result,omitempty"`
}

// turnFields are those of a turn, but for the methods.
type turnFields Turn

// turnBox has parts with their kinds in the place of a turn's own.
type turnBox struct {
	turnFields
	Parts []partBox `json:"parts,omitzero"`
}

// MarshalJSON is for [Request.Encode].
func (t Turn) MarshalJSON() ([]byte, error) {
	box := turnBox{turnFields: turnFields(t)}
	if t.Parts != nil {
		box.Parts = make([]partBox, len(t.Parts))
	}
	for i, p := range t.Parts {
		switch p := p.(type) {
		case Text:
			box.Parts[i].Text = &p
		case Refusal:
			box.Parts[i].Refusal = &p
		case Image:
			box.Parts[i].Image = &p
		case ToolCall:
			box.Parts[i].ToolCall = &p
		case ToolResult:
			box.Parts[i].ToolResult = &p
		default:
			return nil, fmt.Errorf("%T is no part that can be written down", p)
		}
	}
	return encode(box)
}

// UnmarshalJSON is for [DecodeRequest].
func (t *Turn) UnmarshalJSON(doc []byte) error {
	var box turnBox
	if err := decode(doc, &box); err != nil {
		return err
	}
	*t = Turn(box.turnFields)
	if box.Parts != nil {
		t.Parts = make([]Part, len(box.Parts))
	}
	for i, p := range box.Parts {
		part, err := only[Part](opened(p.Text), opened(p.Refusal), opened(p.Image), opened(p.ToolCall), opened(p.ToolResult))
		if err != nil {
			return fmt.Errorf("part %d: %w", i, err)
		}
		t.Parts[i] = part
	}
	return nil
}

// scoreFields are those of a score, but for the methods.
type scoreFields Score

// scoreBox has the bytes of a token that is no whole text.
type scoreBox struct {
	scoreFields
	Bytes []byte `json:"bytes,omitzero"`
}

// MarshalJSON keeps tokens that are a part of a character, which JSON's texts cannot.
func (s Score) MarshalJSON() ([]byte, error) {
	box := scoreBox{scoreFields: scoreFields(s)}
	if !utf8.ValidString(s.Text) {
		box.Text, box.Bytes = "", []byte(s.Text)
	}
	return encode(box)
}

// UnmarshalJSON reads what MarshalJSON gave.
func (s *Score) UnmarshalJSON(doc []byte) error {
	var box scoreBox
	if err := decode(doc, &box); err != nil {
		return err
	}
	*s = Score(box.scoreFields)
	if box.Bytes != nil {
		s.Text = string(box.Bytes)
	}
	return nil
}

// opened is what a box holds at one place; nil if nothing.
func opened[T any](p *T) any {
	if p == nil {
		return nil
	}
	return *p
}

// only gives the one thing that is there.
func only[T any](things ...any) (one T, err error) {
	count := 0
	for _, t := range things {
		if t, ok := t.(T); ok {
			one = t
			count++
		}
	}
	if count != 1 {
		return one, fmt.Errorf("one kind was expected, and %d are there", count)
	}
	return one, nil
}

func encode(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), nil
}

func decode(doc []byte, v any) error {
	d := json.NewDecoder(bytes.NewReader(doc))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("there is more behind its end")
	}
	return nil
}
