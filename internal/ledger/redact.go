package ledger

import (
	"bytes"
	"encoding/json"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

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
	return slices.Contains(secretNames, strings.NewReplacer("_", "", "-", "", " ", "").Replace(strings.ToLower(name)))
}

var (
	// bearers are secrets that stand in a text behind the word that says so (RFC 6750, section 2.1; RFC 7617, section 2).
	bearers = regexp.MustCompile(`(?i)\b(bearer|basic)(\s+)[A-Za-z0-9._~+/=-]{8,}`)
	// named are secrets that stand in a text behind their name, as in JSON that is written in a text.
	named = regexp.MustCompile(`(?i)(\\?["']?(?:authorization|x-api-key|api[_-]?key|access[_-]?token|client[_-]?secret|password)\\?["']?\s*[:=]\s*\\?["']?)([^\s"'\\,;}&]{4,})`)
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
	for _, m := range bearers.FindAllStringSubmatchIndex(s, -1) {
		list = append(list, span{m[5], m[1], redacted})
	}
	for _, m := range named.FindAllStringSubmatchIndex(s, -1) {
		if scheme := s[m[4]:m[5]]; !strings.EqualFold(scheme, "bearer") && !strings.EqualFold(scheme, "basic") { // behind which the secret stands
			list = append(list, span{m[4], m[5], redacted})
		}
	}
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

// Body is a request's body as it may be shown, of which the first bytes are wanted: JSON field by field, whatever else it is as a text.
func (r Redaction) Body(raw []byte, most int) string {
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
