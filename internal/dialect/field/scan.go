package field

import (
	"bytes"
	"encoding/json"
	"slices"
)

// This file goes through JSON that is known to be valid. encoding/json has nothing for that which does not make a token of everything on the
// way, which for a long conversation would take longer than all the rest of reading it.

// check refuses valid JSON in which an object has a key twice, or that is nested too deep. It takes a small multiple of the time that passing
// over the bytes takes.
func check(body []byte) error {
	type level struct {
		keys    [][]byte        // of an object, as they are written
		many    map[string]bool // once there are so many that comparing takes long
		object  bool
		wantKey bool
	}
	var open []level
	for i := 0; i < len(body); i++ {
		switch c := body[i]; c {
		case '{', '[':
			if len(open) == maxDepth {
				return tooDeep()
			}
			if len(open) < cap(open) { // the room for keys of an object that was here before
				open = open[:len(open)+1]
				top := &open[len(open)-1]
				*top = level{keys: top.keys[:0], object: c == '{', wantKey: c == '{'}
			} else {
				open = append(open, level{object: c == '{', wantKey: c == '{'})
			}
		case '}', ']':
			open = open[:len(open)-1]
		case ',':
			open[len(open)-1].wantKey = open[len(open)-1].object
		case '"':
			end := afterText(body, i)
			if n := len(open); n > 0 && open[n-1].wantKey {
				top := &open[n-1]
				top.wantKey = false
				key := body[i+1 : end-1]
				if bytes.IndexByte(key, '\\') >= 0 { // which may be another one, written otherwise
					text := ""
					if err := json.Unmarshal(body[i:end], &text); err != nil {
						return notJSON("%v", err)
					}
					key = []byte(text)
				}
				twice := false
				switch {
				case top.many != nil:
					twice = top.many[string(key)]
					top.many[string(key)] = true
				default:
					twice = slices.ContainsFunc(top.keys, func(other []byte) bool { return bytes.Equal(other, key) })
					if top.keys = append(top.keys, key); len(top.keys) == fewKeys {
						top.many = make(map[string]bool, 2*fewKeys)
						for _, k := range top.keys {
							top.many[string(k)] = true
						}
					}
				}
				if twice {
					return notJSON("the key %.100q appears twice in one object", key)
				}
				if len(top.many) > maxKeys {
					return notJSON("an object has more than %d keys", maxKeys)
				}
			}
			i = end - 1
		}
	}
	return nil
}

// fewKeys is how many keys are compared with one another.
const fewKeys = 32

// afterText is where the text ends that begins at i, with its quotation mark.
func afterText(raw []byte, i int) int {
	for i++; i < len(raw); i++ {
		switch raw[i] {
		case '\\':
			i++
		case '"':
			return i + 1
		}
	}
	return len(raw)
}

// after is where the value ends that begins at i.
func after(raw []byte, i int) int {
	depth := 0
	for i < len(raw) {
		switch raw[i] {
		case '"':
			i = afterText(raw, i)
			if depth == 0 {
				return i
			}
			continue
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				return i + 1
			}
			if depth < 0 {
				return i
			}
		case ',', ' ', '\n', '\t', '\r':
			if depth == 0 {
				return i
			}
		}
		i++
	}
	return i
}

// space is where something other than space comes, from i on.
func space(raw []byte, i int) int {
	for i < len(raw) && (raw[i] == ' ' || raw[i] == '\n' || raw[i] == '\t' || raw[i] == '\r') {
		i++
	}
	return i
}

// members gives the fields of an object, in their order, as long as each wants more.
func members(raw []byte, each func(name string, value json.RawMessage) bool) error {
	i := space(raw, space(raw, 0)+1) // behind the brace
	for i < len(raw) && raw[i] == '"' {
		end := afterText(raw, i)
		name, escaped := raw[i+1:end-1], false
		for _, b := range name {
			escaped = escaped || b == '\\'
		}
		text := string(name)
		if escaped {
			if err := json.Unmarshal(raw[i:end], &text); err != nil {
				return err
			}
		}
		begin := space(raw, space(raw, end)+1) // behind the colon
		end = after(raw, begin)
		if !each(text, json.RawMessage(raw[begin:end:end])) {
			return nil
		}
		i = space(raw, space(raw, end)+1) // behind the comma
	}
	return nil
}

// elements gives the entries of a list, in their order, as long as each wants more.
func elements(raw []byte, each func(json.RawMessage) bool) {
	for i := space(raw, space(raw, 0)+1); i < len(raw) && raw[i] != ']'; { // behind the bracket
		end := after(raw, i)
		if !each(json.RawMessage(raw[i:end:end])) {
			return
		}
		i = space(raw, end)
		if i < len(raw) && raw[i] == ',' {
			i = space(raw, i+1)
		}
	}
}
