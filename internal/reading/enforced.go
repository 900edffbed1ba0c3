package reading

import "strings"

// A call whose form is enforced is known to be one from its first character, so it is given out as it comes: its name, and
// then its arguments piece by piece. Where these are written one by one, they are put into JSON on the way; their values are
// JSON already.

// enforced is how far the call has come that is being read.
type enforced struct {
	place enforcedPlace
	json  nesting // of the arguments, or of the value of one
	any   bool    // there are arguments, which are written one by one
}

type enforcedPlace int

const (
	beforeName enforcedPlace = iota
	inArguments
	beforeArgument // of those that are written one by one
	inValue
	afterArguments
)

// Enforce says that what looks like the beginning of a call is one, since nothing else may be written. It must be said
// before anything is added.
func (r *Reader) Enforce() {
	r.enforce = r.style.Frame.Before != "" && r.style.Frame.Between != "" || r.style.Form == Channels
}

// enforcedCall reads a call, which is written as its frame says, to the letter. What a limit cut off before the name was
// whole is nothing.
func (r *Reader) enforcedCall(out []Piece, ended bool) []Piece {
	f, c := r.style.Frame, &r.call
	switch c.place {
	case beforeName:
		r.pending = strings.TrimLeft(r.pending, " \n\r\t")
		rest, begun := strings.CutPrefix(r.pending, strings.TrimLeft(f.Before, " \n\r\t"))
		name, _, whole := strings.Cut(rest, f.Between)
		switch {
		case begun && whole:
			r.take(len(r.pending) - len(rest) + len(name) + len(f.Between))
			*c = enforced{place: inArguments}
			if r.style.Form.ByName() {
				c.place = beforeArgument
			}
			return append(out, Piece{Call: &Call{Name: name}})
		case r.style.Calls.Open == "" && !begun && !strings.HasPrefix(strings.TrimLeft(f.Before, " \n\r\t"), r.pending):
			r.place, r.started = inText, true // the answer is JSON that is no call
		case ended:
			r.pending = ""
		}
	case inArguments:
		n, complete := c.json.end(r.pending)
		if s := r.take(n); s != "" {
			out = append(out, Piece{Arguments: s})
		}
		if complete {
			c.place = afterArguments
			return append(out, Piece{CallEnds: true})
		}
	case beforeArgument:
		return r.enforcedArgument(out)
	case inValue:
		n, complete := c.json.endOfValue(r.pending)
		if s := r.take(n); s != "" {
			out = append(out, Piece{Arguments: s})
		}
		if rest, closed := strings.CutPrefix(r.pending, f.Close); complete && closed {
			r.pending, c.place = rest, beforeArgument
		}
	case afterArguments:
		after := strings.TrimRight(f.After, " \n\r\t")
		if rest, ok := strings.CutPrefix(r.pending, after); ok || ended {
			r.pending = rest
			if !ok {
				r.pending = ""
			}
			*c = enforced{}
			r.place, r.started = inText, false
		}
	}
	return out
}

// enforcedArgument reads the name of an argument, or the end of a call whose arguments are written one by one.
func (r *Reader) enforcedArgument(out []Piece) []Piece {
	f, c := r.style.Frame, &r.call
	between := "{"
	if c.any {
		between = ","
	}
	if after := strings.TrimRight(f.After, " \n\r\t"); strings.HasPrefix(r.pending, after) {
		end := "}"
		if !c.any {
			end = "{}"
		}
		c.place = afterArguments
		return append(out, Piece{Arguments: end}, Piece{CallEnds: true})
	}
	open := f.Open
	if c.any {
		open = f.Separator + open
	}
	rest, begun := strings.CutPrefix(r.pending, open)
	name, rest, whole := strings.Cut(rest, f.Assign)
	if !begun || !whole {
		return out
	}
	r.pending, c.place, c.any, c.json = rest, inValue, true, nesting{}
	return append(out, Piece{Arguments: between + `"` + name + `":`})
}

// nesting follows a JSON object, or another value, to its end.
type nesting struct {
	depth            int
	inString, escape bool
	begun            bool // with another value: its first character is behind
}

// endOfValue is end for any value. One that is no object, array or text ends before what cannot be in it.
func (j *nesting) endOfValue(text string) (n int, complete bool) {
	if j.depth > 0 || !j.begun && text != "" && (text[0] == '{' || text[0] == '[') {
		j.begun = true
		n, complete = j.end(text)
		return n, complete
	}
	for i := range len(text) {
		switch b := text[i]; {
		case j.escape:
			j.escape = false
		case j.inString && b == '"':
			j.inString = false
			return i + 1, true
		case j.inString:
			j.escape = b == '\\'
		case b == '"' && !j.begun:
			j.inString = true
		case !(b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b == 'E' || b == '-' || b == '+' || b == '.'):
			return i, true
		}
		j.begun = true
	}
	return len(text), false
}

// end is how much of the text belongs to the object, and whether it ends there.
func (j *nesting) end(text string) (n int, complete bool) {
	for i := range len(text) {
		switch b := text[i]; {
		case j.escape:
			j.escape = false
		case j.inString:
			j.escape, j.inString = b == '\\', b != '"'
		case b == '"':
			j.inString = true
		case b == '{' || b == '[':
			j.depth++
		case b == '}' || b == ']':
			if j.depth--; j.depth == 0 {
				return i + 1, true
			}
		}
	}
	return len(text), false
}
