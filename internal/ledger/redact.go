package ledger

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
)

// Redaction takes out of what is kept or shown what is to be kept from whoever reads it: keys of this gate, what requests carry for other
// servers, and what fits the patterns of the settings. Its zero value knows no patterns.
type Redaction struct{ Patterns []*regexp.Regexp }

// redacted stands for what was taken out.
const redacted = "[redacted]"

// secretNames are the fields of requests that carry what opens other servers, in small letters and without what separates words.
var secretNames = []string{"authorization", "proxyauthorization", "apikey", "xapikey", "accesstoken", "refreshtoken", "idtoken", "bearertoken", "clientsecret", "secret", "password", "cookie", "setcookie"}

// Secret reports whether a field of a request carries a secret, by its name.
func Secret(name string) bool {
	return len(name) <= longName && slices.Contains(secretNames, plain(name))
}

// plain is a name in small letters and without what separates words.
func plain(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == ' ' {
			return -1
		}
		return unicode.ToLower(r)
	}, name)
}

var (
	// headed are all headers for another server, in what only looks like JSON.
	headed = regexp.MustCompile(`(?i)(\\?["']headers\\?["']\s*[:=]\s*\{)([^}]+)`)
	// escaped is a letter that is written as its number.
	escaped = regexp.MustCompile(`\\u00[0-7][0-9a-fA-F]`)
)

// picture begins a text that is a picture's data, in which nothing is to be read.
const picture = "data:image/"

// Text is a text without what is to be taken out.
func (r Redaction) Text(s string) string { return r.Texts([]string{s})[0] }

// Texts are texts that follow on one another without what is to be taken out of them together: what begins in one may end in the next.
func (r Redaction) Texts(list []string) []string {
	out := slices.Clone(list)
	for i, s := range out {
		if strings.HasPrefix(s, picture) {
			out[i] = ""
		}
	}
	joined := strings.Join(out, "")
	spans := r.spans(joined)
	from := 0
	for i, s := range out {
		if to := from + len(s); strings.HasPrefix(list[i], picture) {
			out[i] = list[i]
		} else {
			out[i] = cut(joined, from, to, spans)
			from = to
		}
	}
	return out
}

// span is a stretch of a text that is to be taken out, and what stands in its place where it begins.
type span struct {
	from, to int
	instead  string
}

// spans are what is to be taken out of a text, in order, apart from one another.
func (r Redaction) spans(s string) (list []span) {
	for _, m := range keyring.FindKeys(s) {
		list = append(list, span{m[0], m[1], keyring.Redact(s[m[0]:m[1]])})
	}
	list = append(list, opening(s)...)
	for _, p := range r.Patterns {
		for _, m := range p.FindAllStringIndex(s, -1) {
			if m[0] < m[1] {
				list = append(list, span{m[0], m[1], redacted})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b span) int { return a.from - b.from })
	merged := list[:0]
	for _, one := range list {
		if n := len(merged); n > 0 && one.from < merged[n-1].to {
			if one.to > merged[n-1].to {
				merged[n-1].to = one.to
			}
			merged[n-1].instead = redacted
			continue
		}
		merged = append(merged, one)
	}
	return merged
}

// saidNames are the names, by their ends, behind which a secret stands in a text. Words that a text may have for other reasons are not among them.
var saidNames = []string{"authorization", "apikey", "accesstoken", "clientsecret", "password"}

const (
	longName   = 64 // bytes of the name of a secret and of what stands between it and the colon
	leastValue = 4  // bytes of what stands behind a name, for it to be a secret
	leastToken = 8  // bytes of what stands behind "Bearer" or "Basic" (RFC 6750, section 2.1; RFC 7617, section 2)
)

// opening are the secrets of a text that stand behind a word or a name that says what they are, as in JSON that is written in a text or in a form.
// Every byte is looked at about once; an expression would take half a second for a megabyte.
func opening(s string) (list []span) {
	for i := 0; i < len(s); i++ {
		from, to := i, i
		switch s[i] {
		case 'b', 'B':
			n := scheme(s[i:])
			if n == 0 || i > 0 && letter(s[i-1]) {
				continue
			}
			from = past(s, i+n, " \t\r\n")
			if to = from; from == i+n {
				continue
			}
			for to < len(s) && (letter(s[to]) || '0' <= s[to] && s[to] <= '9' || strings.IndexByte("._~+/=-", s[to]) >= 0) {
				to++
			}
			if to-from < leastToken {
				continue
			}
		case ':', '=':
			before := strings.TrimRight(s[max(0, i-longName):i], " \t\r\n\"'\\")
			at := len(before)
			for at > 0 && (letter(before[at-1]) || before[at-1] == '_' || before[at-1] == '-') {
				at--
			}
			name := plain(before[at:])
			if !slices.ContainsFunc(saidNames, func(end string) bool { return strings.HasSuffix(name, end) }) {
				continue
			}
			from = past(s, i+1, " \t\r\n\\\"'")
			to = from
			for to < len(s) && strings.IndexByte(" \t\r\n\"'\\,;}&", s[to]) < 0 {
				to++
			}
			if n := scheme(s[from:to]); to-from < leastValue || n > 0 && n == to-from { // behind which the secret stands
				continue
			}
		default:
			continue
		}
		list = append(list, span{from, to, redacted})
		i = to - 1
	}
	return list
}

// scheme is how many bytes of a text's beginning name a way to authenticate; 0 if there is none.
func scheme(s string) int {
	for _, word := range []string{"bearer", "basic"} {
		if len(s) >= len(word) && strings.EqualFold(s[:len(word)], word) {
			return len(word)
		}
	}
	return 0
}

// past is the place in a text from which on it does not go on with any of some bytes.
func past(s string, at int, bytes string) int {
	for at < len(s) && strings.IndexByte(bytes, s[at]) >= 0 {
		at++
	}
	return at
}

func letter(c byte) bool { return 'a' <= c|' ' && c|' ' <= 'z' }

// cut is s[from:to] without the spans.
func cut(s string, from, to int, spans []span) string {
	var b strings.Builder
	at := from
	for _, one := range spans {
		if one.to <= from || one.from >= to {
			continue
		}
		b.WriteString(s[at:max(at, one.from)])
		if one.from >= from {
			b.WriteString(one.instead)
		}
		at = min(to, max(at, one.to))
	}
	if at == from && b.Len() == 0 {
		return s[from:to]
	}
	b.WriteString(s[at:to])
	return b.String()
}

// Document applies the redaction to all of a JSON document, of which numbers are [json.Number]: to the names of fields, to numbers, and to
// the texts of parts that follow on one another as one text.
func (r Redaction) Document(doc any) any {
	switch doc := doc.(type) {
	case string:
		return r.Text(doc)
	case json.Number:
		if clean := r.Text(doc.String()); clean != doc.String() {
			return clean
		}
	case []any:
		r.parts(doc)
		for i := range doc {
			doc[i] = r.Document(doc[i])
		}
	case map[string]any:
		out := make(map[string]any, len(doc))
		for name, v := range doc {
			switch held := v.(type) {
			case string, json.Number:
				if Secret(name) && held != "" {
					v = redacted
				}
			case map[string]any:
				if strings.EqualFold(name, "headers") {
					for header, value := range held {
						if _, ok := value.(string); ok {
							held[header] = redacted
						}
					}
				}
			}
			out[r.Text(name)] = r.Document(v)
		}
		return out
	}
	return doc
}

// parts redacts the texts of a list's parts as one.
func (r Redaction) parts(list []any) {
	for _, field := range []string{"text", "content"} {
		var of []map[string]any
		var texts []string
		flush := func() {
			if len(of) > 1 {
				for i, clean := range r.Texts(texts) {
					of[i][field] = clean
				}
			}
			of, texts = nil, nil
		}
		for _, one := range list {
			part, _ := one.(map[string]any)
			text, ok := part[field].(string)
			if !ok || field == "content" && part["role"] != nil {
				flush()
				continue
			}
			of, texts = append(of, part), append(texts, text)
		}
		flush()
	}
	var texts []string
	for _, one := range list {
		text, ok := one.(string)
		if !ok {
			return
		}
		texts = append(texts, text)
	}
	for i, clean := range r.Texts(texts) {
		list[i] = clean
	}
}

// JSON applies the redaction to a JSON document. One in which there is nothing to take out stays as it is written.
func (r Redaction) JSON(raw []byte) ([]byte, error) {
	var doc any
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber() // a seed must stay what it is
	if err := d.Decode(&doc); err != nil {
		return nil, err
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, io.ErrUnexpectedEOF
	}
	before, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	after, err := json.Marshal(r.Document(doc))
	if err == nil && bytes.Equal(before, after) && written(raw) == fields(doc) { // a field that is there twice is in the document once
		return raw, nil
	}
	return after, err
}

// fields is how many fields a document has, and written how many are written in its text.
func fields(doc any) (n int) {
	switch doc := doc.(type) {
	case []any:
		for _, v := range doc {
			n += fields(v)
		}
	case map[string]any:
		n = len(doc)
		for _, v := range doc {
			n += fields(v)
		}
	}
	return n
}

func written(raw []byte) (n int) {
	text := false
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case text && c == '\\':
			i++
		case c == '"':
			text = !text
		case c == ':' && !text:
			n++
		}
	}
	return n
}

// longestShown bounds a body that is shown: what is to be taken out of it is only known once all of it has been gone through.
const longestShown = 1 << 20

// Body is a request's body as it may be shown, of which the first bytes are wanted: JSON field by field, whatever else it is as a text. One that is
// too long to be gone through is not shown.
func (r Redaction) Body(raw []byte, most int) string {
	if len(raw) > longestShown {
		return fmt.Sprintf("(not shown: it is longer than %d MB)", longestShown>>20)
	}
	if clean, err := r.JSON(raw); err == nil {
		raw = clean
	} else {
		text := escaped.ReplaceAllStringFunc(strings.ToValidUTF8(string(raw[:min(len(raw), 2*most)]), "\uFFFD"), func(e string) string {
			c, _ := strconv.ParseUint(e[len(`\u`):], 16, 8)
			return string(rune(c))
		})
		raw = []byte(r.Text(headed.ReplaceAllString(text, "${1}"+redacted)))
	}
	return strings.ToValidUTF8(string(raw[:min(len(raw), most)]), "\uFFFD")
}

// content takes out of everything that was said what is to be taken out. A prompt that was sent as tokens is kept as the text that these stand
// for, if something is taken out of that, or if nobody here can tell.
func (r Redaction) content(c *kept.Content) {
	pieces := make([]string, len(c.Prompt))
	for i := range c.Prompt {
		pieces[i] = c.Prompt[i].Text
	}
	clean := r.Texts(pieces)
	changed := !slices.Equal(clean, pieces)
	for i := range c.Prompt {
		c.Prompt[i].Text = clean[i]
	}
	if err := r.request(c, strings.Join(clean, ""), changed); err != nil {
		c.Request, c.Problem = json.RawMessage(`{}`), "the request could not be gone through: "+err.Error()
	}
	for i := range c.Answers {
		a := &c.Answers[i]
		a.Reasoning, a.Text = r.Text(a.Reasoning), r.Text(a.Text)
		for j := range a.Calls {
			call := &a.Calls[j]
			call.Name = r.Text(call.Name)
			call.Arguments = r.Text(call.Arguments)
			if raw, err := r.JSON([]byte(call.Arguments)); err == nil {
				call.Arguments = string(raw) // what was written with escapes
			}
		}
	}
}

func (r Redaction) request(c *kept.Content, prompt string, changed bool) (err error) {
	if req, err := exchange.DecodeRequest(c.Request); err == nil && req.Raw != nil && len(req.Raw.Tokens) > 0 && (changed || len(c.Prompt) == 0 && len(r.Patterns) > 0) {
		req.Raw.Tokens, req.Raw.Text = nil, prompt
		if len(c.Prompt) == 0 {
			req.Raw.Text = redacted
		}
		if c.Request, err = req.Encode(); err != nil {
			return err
		}
	}
	c.Request, err = r.JSON(c.Request)
	return err
}
