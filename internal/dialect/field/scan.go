package field

import (
	"encoding/json"
)

// This file goes through JSON that is known to be valid. encoding/json has nothing for that which does not make a token of everything on the
// way, which for a long conversation would take longer than all the rest of reading it.

// plain reports whether a valid JSON value is an object or list in which no object has a key twice, and which is not nested too deep. It may
// say no for one that is all right, and never the other way round.
func plain(body []byte) bool {
	type level struct {
		keys    [][]byte // of an object
		object  bool
		wantKey bool
	}
	var open []level
	for i := 0; i < len(body); i++ {
		switch c := body[i]; c {
		case '{', '[':
			if open = append(open, level{object: c == '{', wantKey: c == '{'}); len(open) > maxDepth {
				return false
			}
		case '}', ']':
			open = open[:len(open)-1]
		case ',':
			open[len(open)-1].wantKey = open[len(open)-1].object
		case '"':
			end := afterText(body, i)
			if n := len(open); n > 0 && open[n-1].wantKey {
				top := &open[n-1]
				key := body[i+1 : end-1]
				// Keys with escapes may be the same without looking it, and many keys take long to compare.
				if len(top.keys) == 64 {
					return false
				}
				for _, b := range key {
					if b == '\\' {
						return false
					}
				}
				for _, other := range top.keys {
					if string(other) == string(key) {
						return false
					}
				}
				top.keys, top.wantKey = append(top.keys, key), false
			}
			i = end - 1
		}
	}
	return true
}

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

// members gives the fields of an object, in their order.
func members(raw []byte, each func(name string, value json.RawMessage)) error {
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
		each(text, json.RawMessage(raw[begin:end:end]))
		i = space(raw, space(raw, end)+1) // behind the comma
	}
	return nil
}
