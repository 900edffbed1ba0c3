// Package reading is the way back from a model's raw text to an answer, its reasoning and its tool calls.
//
// A [Reader] takes the text as it comes and gives out what it is sure of: never half a mark, and never less
// than everything. What looks like a call but cannot be read stays text, and is counted.
package reading

import (
	"strings"
	"unicode"
)

// Style says how a model lays out what it writes.
type Style struct {
	// Reasoning encloses what is not for the reader; zero if the model does not do that.
	Reasoning Marks
	// Inside is true if the prompt has opened the reasoning already.
	Inside bool
	// Form is how tool calls are written, and Calls what encloses them. Without an opening mark, calls take up
	// the whole answer from its first character; without a closing one, they go on to its end.
	Form  Form
	Calls Marks
	// Frame is what stands around a call's name and arguments, marks included; zero if that is not known.
	Frame Frame
}

// Frame is how a call is written, to the letter: Before, the name, Between, the arguments, After. The arguments are a JSON
// object in the forms JSON and Named. In the others each is written by itself: Open, its name, Assign, its value, Close, with
// Separator between them. Joint is what stands between the arguments of one call and the name of the next, where marks enclose several.
type Frame struct {
	Before, Between, After         string
	Open, Assign, Close, Separator string
	Joint                          string
}

// Marks enclose a part of the text.
type Marks struct{ Open, Close string }

// Form is a way of writing tool calls.
type Form string

// The forms.
const (
	NoCalls      Form = ""              // text is text
	JSON         Form = "json"          // {"name": …, "arguments": {…}}, or a list of such objects
	Python       Form = "python"        // [name(key="value", …), …]
	FunctionTags Form = "function-tags" // <function=name><parameter=key>value</parameter></function>
	Named        Form = "named"         // the name, and behind it the arguments as a JSON object, with marks of any kind around them
	Tags         Form = "tags"          // the name, and behind it each argument by itself, with tags of any kind around them
	// Channels is a layout of the whole answer: messages, each with a header that names its channel and perhaps
	// whom it is to. Reasoning and calls are messages of their own, so Reasoning and Calls have no meaning.
	Channels Form = "channels" // <|channel|>name to=functions.f<|message|>…<|end|>
)

// ByName reports whether each argument is written by itself.
func (f Form) ByName() bool { return f == Python || f == FunctionTags || f == Tags }

// Call is a tool call that was read.
type Call struct {
	Name      string
	Arguments string // a JSON object
}

// Piece is a part of an answer: one of the first four fields is set, or CallEnds alone.
type Piece struct {
	Text      string
	Reasoning string
	Call      *Call  // begins a call; if CallEnds is set it is whole
	Arguments string // more of the arguments of the call that has begun
	CallEnds  bool
}

// Reader reads one answer.
type Reader struct {
	style     Style
	place     place
	pending   string // not yet given out
	started   bool   // something other than space was seen since the last part ended; before that, space is layout
	malformed int
	header    string // of the message that is being read, in channels
	enforce   bool   // what looks like a call is one
	call      enforced
}

// place is what part of the answer the pending text is in.
type place int

const (
	inText place = iota
	inReasoning
	inCalls
	inHeader  // of a message, in channels
	inMessage // of a channel
)

// New begins reading an answer.
func New(s Style) *Reader {
	r := &Reader{style: s}
	switch {
	case s.Form == Channels:
		r.place = inHeader
	case s.Inside:
		r.place = inReasoning
	}
	return r
}

// Malformed counts the places that looked like calls and could not be read. They were given out as text.
func (r *Reader) Malformed() int { return r.malformed }

// Add takes more text and returns what is certain now.
func (r *Reader) Add(text string) []Piece {
	r.pending += text
	return r.advance(nil, false)
}

// End returns the rest, when no more text comes.
func (r *Reader) End() []Piece { return r.advance(nil, true) }

// Cut is End for an answer that a limit cut off. Where calls are enforced, the beginning of the mark of one is nothing.
func (r *Reader) Cut() []Piece {
	if r.enforce && r.place == inText {
		if n := held(r.pending, r.callMark()); n > 1 || n == len(r.pending) {
			r.pending = r.pending[:len(r.pending)-n]
		}
	}
	return r.End()
}

// advance goes on until the pending text does not say more.
func (r *Reader) advance(out []Piece, ended bool) []Piece {
	for {
		before, at := len(r.pending), r.place
		switch r.place {
		case inReasoning:
			out = r.reasoning(out, ended)
		case inText:
			out = r.text(out, ended)
		case inCalls:
			out = r.calls(out, ended)
		case inHeader:
			out = r.channelHeader(out, ended)
		case inMessage:
			out = r.channelMessage(out, ended)
		}
		if r.place == at && len(r.pending) == before || r.pending == "" && r.place == at {
			return out
		}
	}
}

// take gives n bytes of the pending text.
func (r *Reader) take(n int) string {
	s := r.pending[:n]
	r.pending = r.pending[n:]
	return s
}

func (r *Reader) reasoning(out []Piece, ended bool) []Piece {
	if !r.started {
		r.pending = strings.TrimLeftFunc(r.pending, unicode.IsSpace)
	}
	end := r.style.Reasoning.Close
	i := strings.Index(r.pending, end)
	if i >= 0 {
		if s := strings.TrimRightFunc(r.take(i), unicode.IsSpace); s != "" {
			out = append(out, Piece{Reasoning: s})
		}
		r.take(len(end))
		r.place, r.started = inText, false
		return out
	}
	hold := 0
	if !ended {
		// Space before the mark belongs to the mark.
		hold = held(r.pending, end)
		hold += trailingSpace(r.pending[:len(r.pending)-hold])
	}
	if s := r.take(len(r.pending) - hold); s != "" {
		r.started = true
		out = append(out, Piece{Reasoning: s})
	}
	return out
}

func (r *Reader) text(out []Piece, ended bool) []Piece {
	if !r.started {
		r.pending = strings.TrimLeftFunc(r.pending, unicode.IsSpace)
		if r.pending == "" {
			return out
		}
		if r.style.Form != NoCalls && r.style.Calls.Open == "" && strings.IndexByte("[{", r.pending[0]) >= 0 {
			r.place = inCalls
			return out
		}
	}
	at, mark, to := -1, "", inText
	for _, m := range []struct {
		mark string
		to   place
	}{{r.style.Reasoning.Open, inReasoning}, {r.callMark(), inCalls}} {
		if m.mark == "" {
			continue
		}
		if i := strings.Index(r.pending, m.mark); i >= 0 && (at < 0 || i < at) {
			at, mark, to = i, m.mark, m.to
		}
	}
	if at >= 0 {
		if s := strings.TrimRightFunc(r.take(at), unicode.IsSpace); s != "" {
			out = append(out, Piece{Text: s})
		}
		r.place, r.started = to, false
		if to == inReasoning {
			r.take(len(mark))
		}
		return out
	}
	hold := 0
	if !ended {
		hold = max(held(r.pending, r.style.Reasoning.Open), held(r.pending, r.callMark()))
		hold += trailingSpace(r.pending[:len(r.pending)-hold])
	}
	if s := r.take(len(r.pending) - hold); s != "" {
		r.started = true
		out = append(out, Piece{Text: s})
	}
	return out
}

// callMark is what announces a call within text, if anything does.
func (r *Reader) callMark() string {
	if r.style.Form == NoCalls {
		return ""
	}
	return r.style.Calls.Open
}

// calls reads from an opening mark, which is still pending, to the closing one.
func (r *Reader) calls(out []Piece, ended bool) []Piece {
	if r.enforce {
		return r.enforcedCall(out, ended)
	}
	m := r.style.Calls
	body, whole := r.pending[len(m.Open):], len(r.pending)
	if i := closing(r.style.Form, body, m.Close); i >= 0 {
		body, whole = body[:i], len(m.Open)+i+len(m.Close)
	} else if !ended {
		return out
	}
	calls, ok := parse(&r.style, strings.TrimSpace(body))
	r.place, r.started = inText, !ok
	if !ok {
		r.malformed++
		return append(out, Piece{Text: r.take(whole)})
	}
	r.take(whole)
	for _, c := range calls {
		out = append(out, Piece{Call: &c, CallEnds: true})
	}
	return out
}

// closing finds the mark that ends calls; -1 if it has not come. One within a string of JSON is text.
func closing(form Form, body, mark string) int {
	if mark == "" {
		return -1
	}
	for from := 0; ; {
		i := strings.Index(body[from:], mark)
		if i < 0 {
			return -1
		}
		if from += i; form != JSON && form != Named || !unfinished(body[:from]) {
			return from
		}
		from += len(mark)
	}
}

// held is the length of the longest end of s that is the beginning of mark, but not all of it.
func held(s, mark string) int {
	for n := min(len(mark)-1, len(s)); n > 0; n-- {
		if strings.HasSuffix(s, mark[:n]) {
			return n
		}
	}
	return 0
}

func trailingSpace(s string) int { return len(s) - len(strings.TrimRightFunc(s, unicode.IsSpace)) }
