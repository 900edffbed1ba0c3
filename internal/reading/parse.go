package reading

import (
	"bytes"
	"encoding/json"
	"regexp"
	"strconv"
	"strings"
)

// parse reads all calls in a text; ok is false if anything in it is not one.
func parse(style *Style, text string) (calls []Call, ok bool) {
	switch style.Form {
	case JSON:
		return parseJSON(text)
	case Python:
		return parsePython(text)
	case FunctionTags:
		return parseTags(text)
	case Named:
		return parseNamed(&style.Frame, text)
	case Tags:
		return parseFramed(&style.Frame, text)
	case NoCalls, Channels:
	}
	return nil, false
}

// parseJSON reads one object, several after each other, or a list of them.
func parseJSON(text string) (calls []Call, ok bool) {
	d := json.NewDecoder(strings.NewReader(text))
	for d.More() {
		var raw json.RawMessage
		if d.Decode(&raw) != nil {
			return nil, false
		}
		list := []json.RawMessage{raw}
		if raw[0] == '[' && json.Unmarshal(raw, &list) != nil {
			return nil, false
		}
		for _, item := range list {
			c, ok := parseObject(item)
			if !ok {
				return nil, false
			}
			calls = append(calls, c)
		}
	}
	return calls, len(calls) > 0
}

// unfinished reports whether a text ends within a string of JSON.
func unfinished(text string) bool {
	open := false
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			if open {
				i++
			}
		case '"':
			open = !open
		}
	}
	return open
}

// parseObject reads a call by the names that models use for its parts.
func parseObject(raw json.RawMessage) (Call, bool) {
	var o struct {
		Name       string          `json:"name"`
		ToolName   string          `json:"tool_name"`
		Arguments  json.RawMessage `json:"arguments"`
		Parameters json.RawMessage `json:"parameters"`
		Function   json.RawMessage `json:"function"`
	}
	if json.Unmarshal(raw, &o) != nil {
		return Call{}, false
	}
	if o.Name == "" {
		o.Name = o.ToolName
	}
	if o.Name == "" && len(o.Function) > 0 && o.Function[0] == '{' {
		return parseObject(o.Function)
	}
	arguments := o.Arguments
	if arguments == nil {
		arguments = o.Parameters
	}
	if arguments == nil {
		arguments = json.RawMessage("{}")
	}
	if text := ""; json.Unmarshal(arguments, &text) == nil { // JSON within a string
		arguments = json.RawMessage(text)
	}
	arguments = bytes.TrimSpace(arguments)
	if o.Name == "" || !json.Valid(arguments) || arguments[0] != '{' {
		return Call{}, false
	}
	return Call{Name: o.Name, Arguments: string(arguments)}, true
}

var (
	callName = regexp.MustCompile(`^\s*([A-Za-z_][\w.-]*)\s*\(`)
	argName  = regexp.MustCompile(`^\s*([A-Za-z_]\w*)\s*=\s*`)
)

// parsePython reads calls written as Python does, alone or in a list; values are Python's literals.
func parsePython(text string) (calls []Call, ok bool) {
	if strings.HasPrefix(text, "[") && strings.HasSuffix(text, "]") {
		text = text[1 : len(text)-1]
	}
	for strings.TrimSpace(text) != "" {
		m := callName.FindStringSubmatch(text)
		if m == nil {
			return nil, false
		}
		text = text[len(m[0]):]
		var args bytes.Buffer
		args.WriteByte('{')
		for first := true; ; first = false {
			text = strings.TrimLeft(text, " \t\n")
			if rest, closed := strings.CutPrefix(text, ")"); closed {
				text = rest
				break
			}
			if !first {
				rest, comma := strings.CutPrefix(text, ",")
				if !comma {
					return nil, false
				}
				text = strings.TrimLeft(rest, " \t\n")
				args.WriteByte(',')
			}
			name := argName.FindStringSubmatch(text)
			if name == nil {
				return nil, false
			}
			value, rest, ok := pythonLiteral(text[len(name[0]):])
			if !ok {
				return nil, false
			}
			key, _ := json.Marshal(name[1]) // a word can always be marshalled
			args.Write(key)
			args.WriteByte(':')
			args.WriteString(value)
			text = rest
		}
		args.WriteByte('}')
		if !json.Valid(args.Bytes()) {
			return nil, false
		}
		calls = append(calls, Call{Name: m[1], Arguments: args.String()})
		text = strings.TrimLeft(text, " \t\n")
		if rest, comma := strings.CutPrefix(text, ","); comma {
			text = rest
		} else if text != "" {
			return nil, false
		}
	}
	return calls, len(calls) > 0
}

var number = regexp.MustCompile(`^-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?`)

// pythonLiteral reads a literal from the front of text and gives it as JSON.
func pythonLiteral(text string) (value, rest string, ok bool) {
	for python, js := range map[string]string{"True": "true", "False": "false", "None": "null", "true": "true", "false": "false", "null": "null"} {
		if rest, is := strings.CutPrefix(text, python); is {
			return js, rest, true
		}
	}
	if n := number.FindString(text); n != "" {
		return n, text[len(n):], true
	}
	if text == "" {
		return "", "", false
	}
	switch text[0] {
	case '"', '\'':
		return pythonString(text)
	case '[', '{':
		return pythonCollection(text)
	}
	return "", "", false
}

func pythonString(text string) (value, rest string, ok bool) {
	var s strings.Builder
	for i := 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == text[0]:
			raw, err := json.Marshal(s.String())
			return string(raw), text[i+1:], err == nil
		case c == '\\' && i+1 < len(text):
			i++
			if at := strings.IndexByte(`nrtbf`, text[i]); at >= 0 {
				s.WriteByte("\n\r\t\b\f"[at])
			} else if code, err := strconv.ParseUint(text[i+1:min(i+5, len(text))], 16, 16); text[i] == 'u' && err == nil && i+5 <= len(text) {
				s.WriteRune(rune(code))
				i += 4
			} else {
				s.WriteByte(text[i])
			}
		default:
			s.WriteByte(c)
		}
	}
	return "", "", false
}

// pythonCollection reads a list or a dictionary.
func pythonCollection(text string) (value, rest string, ok bool) {
	end := map[byte]string{'[': "]", '{': "}"}[text[0]]
	out := text[:1]
	text = text[1:]
	for first := true; ; first = false {
		text = strings.TrimLeft(text, " \t\n")
		if rest, closed := strings.CutPrefix(text, end); closed {
			return out + end, rest, true
		}
		if !first {
			after, comma := strings.CutPrefix(text, ",")
			if !comma {
				return "", "", false
			}
			text = strings.TrimLeft(after, " \t\n")
			out += ","
		}
		item, after, ok := pythonLiteral(text)
		if !ok {
			return "", "", false
		}
		out, text = out+item, strings.TrimLeft(after, " \t\n")
		if end == "}" {
			after, colon := strings.CutPrefix(text, ":")
			if !colon {
				return "", "", false
			}
			item, after, ok := pythonLiteral(strings.TrimLeft(after, " \t\n"))
			if !ok {
				return "", "", false
			}
			out, text = out+":"+item, after
		}
	}
}

var (
	functionTag  = regexp.MustCompile(`(?s)^\s*<function=([\w.-]+)>(.*?)</function>\s*`)
	parameterTag = regexp.MustCompile(`(?s)^\s*<parameter=([\w.-]+)>(.*?)</parameter>\s*`)
)

// parseTags reads function tags. A value that is JSON is taken as such, any other as text.
func parseTags(text string) (calls []Call, ok bool) {
	for text != "" {
		f := functionTag.FindStringSubmatch(text)
		if f == nil {
			return nil, false
		}
		text = text[len(f[0]):]
		arguments := map[string]json.RawMessage{}
		for body := strings.TrimSpace(f[2]); body != ""; {
			p := parameterTag.FindStringSubmatch(body)
			if p == nil {
				return nil, false
			}
			body = body[len(p[0]):]
			arguments[p[1]] = asJSON(p[2])
		}
		raw, err := json.Marshal(arguments)
		if err != nil {
			return nil, false
		}
		calls = append(calls, Call{Name: f[1], Arguments: string(raw)})
	}
	return calls, len(calls) > 0
}

// loosely is an expression for what stands in a frame, with any white space, or none, where it has some and around it.
func loosely(text string) string {
	fields := strings.Fields(text)
	for i, f := range fields {
		fields[i] = regexp.QuoteMeta(f)
	}
	return `\s*` + strings.Join(fields, `\s*`) + `\s*`
}

// toolName is what tools may be called.
const toolName = `([\w.-]+)`

// parseNamed reads names with a JSON object behind each.
func parseNamed(f *Frame, text string) (calls []Call, ok bool) {
	head, err := regexp.Compile(`^\s*` + toolName + loosely(f.Between))
	if err != nil {
		return nil, false
	}
	joint, err := regexp.Compile(`^` + loosely(f.Joint))
	if err != nil {
		return nil, false
	}
	for text != "" {
		m := head.FindStringSubmatch(text)
		if m == nil {
			return nil, false
		}
		text = text[len(m[0]):]
		d := json.NewDecoder(strings.NewReader(text))
		var arguments json.RawMessage
		if d.Decode(&arguments) != nil || arguments[0] != '{' {
			return nil, false
		}
		calls = append(calls, Call{Name: m[1], Arguments: string(arguments)})
		if text = strings.TrimSpace(text[d.InputOffset():]); text == "" {
			break
		}
		between := joint.FindString(text)
		if f.Joint == "" || between == "" {
			return nil, false
		}
		text = text[len(between):]
	}
	return calls, len(calls) > 0
}

// parseFramed reads names with tagged arguments behind each.
func parseFramed(f *Frame, text string) (calls []Call, ok bool) {
	var list []*regexp.Regexp
	for _, e := range []string{`^\s*` + toolName + loosely(f.Between), `(?s)^` + loosely(f.Open) + toolName + loosely(f.Assign) + `(.*?)` + loosely(f.Close), `^` + loosely(f.Joint)} {
		r, err := regexp.Compile(e)
		if err != nil {
			return nil, false
		}
		list = append(list, r)
	}
	head, argument, joint := list[0], list[1], list[2]
	for text != "" {
		m := head.FindStringSubmatch(text)
		if m == nil {
			return nil, false
		}
		text = text[len(m[0]):]
		arguments := map[string]json.RawMessage{}
		for {
			a := argument.FindStringSubmatch(text)
			if a == nil {
				break
			}
			text = text[len(a[0]):]
			arguments[a[1]] = asJSON(a[2])
		}
		raw, err := json.Marshal(arguments)
		if err != nil {
			return nil, false
		}
		calls = append(calls, Call{Name: m[1], Arguments: string(raw)})
		if text = strings.TrimSpace(text); text == "" {
			break
		}
		between := joint.FindString(text)
		if f.Joint == "" || between == "" {
			return nil, false
		}
		text = text[len(between):]
	}
	return calls, len(calls) > 0
}

// asJSON takes a value that is JSON as such, any other as text.
func asJSON(value string) json.RawMessage {
	value = strings.TrimSuffix(strings.TrimPrefix(value, "\n"), "\n")
	raw := json.RawMessage(value)
	if !json.Valid(raw) {
		raw, _ = json.Marshal(value) // a string can always be marshalled
	}
	return raw
}
