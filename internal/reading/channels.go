package reading

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// The marks of channels. A message is a header, messageMark, and what it says, up to one of the endings.
const (
	startMark     = "<|start|>"
	channelMark   = "<|channel|>"
	messageMark   = "<|message|>"
	endMark       = "<|end|>"
	returnMark    = "<|return|>"
	constrainMark = "<|constrain|>"
	// ChannelCall ends a message that is a tool call, and with it the answer.
	ChannelCall = "<|call|>"
)

var (
	// headerMarks begin a header: the role, which a prompt may have written already, or the channel.
	headerMarks = []string{startMark, channelMark}
	endings     = []string{endMark, returnMark, ChannelCall, startMark, channelMark}
)

// ChannelHeader is how a message in a channel begins, one that is to a function if that is named.
func ChannelHeader(channel, function string) string {
	if function != "" {
		channel += " to=functions." + function + " " + constrainMark + "json"
	}
	return channelMark + channel + messageMark
}

// ChannelTurn ends a message of a model after which it writes another.
const ChannelTurn = endMark + startMark + "assistant"

// ChannelMarks are all marks by which channels are laid out.
func ChannelMarks() []string {
	return []string{startMark, channelMark, messageMark, endMark, returnMark, ChannelCall, constrainMark}
}

// UsesChannels reports whether a template lays its messages out in channels.
func UsesChannels(template string) bool {
	return strings.Contains(template, channelMark) && strings.Contains(template, messageMark)
}

// firstOf finds the first of marks in s; at is -1 if there is none.
func firstOf(s string, marks []string) (at int, mark string) {
	at = -1
	for _, m := range marks {
		if i := strings.Index(s, m); i >= 0 && (at < 0 || i < at) {
			at, mark = i, m
		}
	}
	return at, mark
}

// heldOf is the length of the longest end of s that any of the marks may begin with.
func heldOf(s string, marks []string) (n int) {
	for _, m := range marks {
		n = max(n, held(s, m))
	}
	return n
}

// channelHeader reads up to what a message says. An answer that has no header is text.
func (r *Reader) channelHeader(out []Piece, ended bool) []Piece {
	r.pending = strings.TrimLeftFunc(r.pending, unicode.IsSpace)
	begins := slices.ContainsFunc(headerMarks, func(m string) bool { return strings.HasPrefix(r.pending, m) })
	undecided := slices.ContainsFunc(headerMarks, func(m string) bool { return strings.HasPrefix(m, r.pending) })
	switch i := strings.Index(r.pending, messageMark); {
	case r.pending == "":
	case begins && i >= 0:
		r.header = r.take(i)
		r.take(len(messageMark))
		r.place = inMessage
	case !begins && (!undecided || ended), ended:
		// No header, or half of one: nothing is lost, it is text.
		r.header = ""
		r.place = inMessage
		if begins || undecided {
			out = append(out, Piece{Text: r.take(len(r.pending))})
		}
	}
	return out
}

var recipient = regexp.MustCompile(`\bto=(?:functions\.)?([\w.-]+)`)

// channelMessage reads what a message says: reasoning in the channel "analysis", a call if it is to a function, and
// text otherwise.
func (r *Reader) channelMessage(out []Piece, ended bool) []Piece {
	to := recipient.FindStringSubmatch(r.header)
	at, mark := firstOf(r.pending, endings)
	if to != nil && r.enforce {
		return r.enforcedMessage(out, to[1], ended)
	}
	if to != nil && at < 0 && !ended {
		return out // a call is read when it is whole
	}
	n := at
	if at < 0 {
		n = len(r.pending)
		if !ended {
			n -= heldOf(r.pending, endings)
		}
	}
	said := r.take(n)
	switch {
	case to != nil:
		if body := strings.TrimSpace(said); strings.HasPrefix(body, "{") && json.Valid([]byte(body)) {
			out = append(out, Piece{Call: &Call{Name: to[1], Arguments: body}, CallEnds: true})
		} else {
			r.malformed++
			if said != "" {
				out = append(out, Piece{Text: said})
			}
		}
	case said == "":
	case strings.Contains(r.header, channelMark+"analysis"):
		out = append(out, Piece{Reasoning: said})
	default:
		out = append(out, Piece{Text: said})
	}
	if at >= 0 {
		if !slices.Contains(headerMarks, mark) { // these begin the next header
			r.take(len(mark))
		}
		r.place = inHeader
	}
	return out
}

// enforcedMessage reads a call in a channel as it comes.
func (r *Reader) enforcedMessage(out []Piece, name string, ended bool) []Piece {
	if r.call.place == beforeName {
		r.call = enforced{place: inArguments}
		out = append(out, Piece{Call: &Call{Name: name}})
	}
	if r.call.place == inArguments {
		n, complete := r.call.json.end(r.pending)
		if s := r.take(n); s != "" {
			out = append(out, Piece{Arguments: s})
		}
		if !complete {
			return out
		}
		r.call.place = afterArguments
		out = append(out, Piece{CallEnds: true})
	}
	switch at, mark := firstOf(r.pending, endings); {
	case at >= 0:
		r.take(at)
		if !slices.Contains(headerMarks, mark) {
			r.take(len(mark))
		}
		r.call, r.place = enforced{}, inHeader
	case ended:
		r.pending = ""
	}
	return out
}
