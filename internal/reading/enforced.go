package reading

import "strings"

// A call whose form is enforced is known to be one from its first character, so it is given out as it comes: its name, and
// then its arguments piece by piece. Calls in JSON and in channels are; those whose arguments are written one by one have to
// be put into JSON first, and come whole.

// enforced is how far the call has come that is being read.
type enforced struct {
	place enforcedPlace
	json  nesting // of the arguments
}

type enforcedPlace int

const (
	beforeName enforcedPlace = iota
	inArguments
	afterArguments
)

// Enforce says that what looks like the beginning of a call is one, since nothing else may be written. It must be said
// before anything is added.
func (r *Reader) Enforce() {
	r.enforce = r.style.Form == JSON && r.style.Frame.Before != "" && r.style.Frame.Between != "" || r.style.Form == Channels
}

// enforcedCall reads a call in JSON, which is written as its frame says, to the letter. What a limit cut off before the
// name was whole is nothing.
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
			return append(out, Piece{Call: &Call{Name: name}})
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

// nesting follows a JSON object to its end.
type nesting struct {
	depth            int
	inString, escape bool
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
