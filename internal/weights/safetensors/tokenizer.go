package safetensors

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kindredgate/internal/weights"
)

// component is a normalizer, a pre-tokenizer, a post-processor or a decoder of tokenizer.json.
type component struct {
	Type          string      `json:"type"`
	Normalizers   []component `json:"normalizers"`
	PreTokenizers []component `json:"pretokenizers"`
	Decoders      []component `json:"decoders"`
	Processors    []component `json:"processors"`

	Pattern *struct {
		String *string `json:"String"`
		Regex  *string `json:"Regex"`
	} `json:"pattern"`
	// Content is text, or a token's text, or a map; Strip and Replace have text.
	Content     json.RawMessage `json:"content"`
	Prepend     string          `json:"prepend"`
	Behavior    string          `json:"behavior"`
	Invert      bool            `json:"invert"`
	Left        any             `json:"strip_left"`
	Right       any             `json:"strip_right"`
	Start       int             `json:"start"`
	Stop        int             `json:"stop"`
	AddPrefix   *bool           `json:"add_prefix_space"`
	UseRegex    *bool           `json:"use_regex"`
	Scheme      string          `json:"prepend_scheme"`
	Replacement string          `json:"replacement"`
	SplitWords  *bool           `json:"split"`
	Individual  bool            `json:"individual_digits"`
	Prefix      string          `json:"prefix"`

	CleanText    *bool `json:"clean_text"`
	Chinese      *bool `json:"handle_chinese_chars"`
	StripAccents *bool `json:"strip_accents"`
	Lowercase    *bool `json:"lowercase"`

	Single  []templatePiece `json:"single"`
	Pair    []templatePiece `json:"pair"`
	Special map[string]struct {
		IDs []int32 `json:"ids"`
	} `json:"special_tokens"`
	CLS json.RawMessage `json:"cls"`
	SEP json.RawMessage `json:"sep"`
}

// definition is a component with all that is in it, which is read only if it has no more parts than published ones justify: a part of two
// bytes takes hundreds when it is read.
type definition struct{ *component }

// maxComponents bounds the parts of a component.
const maxComponents = 4096

func (d *definition) UnmarshalJSON(raw []byte) error {
	if n := bytes.Count(raw, []byte("{")); n > maxComponents {
		return fmt.Errorf("a part of the tokenizer has %d parts; at most %d are read", n, maxComponents)
	}
	return json.Unmarshal(raw, &d.component)
}

type templatePiece struct {
	Special  *struct{ ID string } `json:"SpecialToken"`
	Sequence *struct{ ID string } `json:"Sequence"`
}

// splitGPT2 is the expression that the byte-level pre-tokenizer splits by unless it is told not to.
const splitGPT2 = `'s|'t|'re|'ve|'m|'ll|'d| ?\p{L}+| ?\p{N}+| ?[^\s\p{L}\p{N}]+|\s+(?!\S)|\s+`

const spaceMark = "▁"

// ReadTokenizer reads tokenizer.json. What it asks for that is not supported is an error that names it.
func ReadTokenizer(raw []byte) (*weights.Tokenizer, error) {
	var d struct {
		Added []struct {
			ID         int64  `json:"id"`
			Content    string `json:"content"`
			Special    bool   `json:"special"`
			Left       bool   `json:"lstrip"`
			Right      bool   `json:"rstrip"`
			SingleWord bool   `json:"single_word"`
			Normalized bool   `json:"normalized"`
		} `json:"added_tokens"`
		Normalizer    definition      `json:"normalizer"`
		PreTokenizer  definition      `json:"pre_tokenizer"`
		PostProcessor definition      `json:"post_processor"`
		Decoder       definition      `json:"decoder"`
		Model         json.RawMessage `json:"model"`
	}
	if err := json.Unmarshal(raw, &d); err != nil {
		return nil, err
	}
	t := &weights.Tokenizer{Unknown: -1, BOS: -1, EOS: -1, FillBefore: -1, FillAfter: -1, FillMiddle: -1}
	if err := readModel(t, d.Model); err != nil {
		return nil, fmt.Errorf("model: %w", err)
	}
	highest := highestID(len(t.Tokens) + len(d.Added)) // of the file as it is: what is left out must not justify leaving out more
	for _, a := range d.Added {
		if a.ID < 0 || a.ID > highest {
			return nil, fmt.Errorf("the added token %q has the number %d", a.Content, a.ID)
		}
		for int64(len(t.Tokens)) <= a.ID {
			t.Tokens, t.Kinds = append(t.Tokens, ""), append(t.Kinds, weights.UnusedToken)
			if t.Scores != nil {
				t.Scores = append(t.Scores, 0)
			}
		}
		t.Tokens[a.ID], t.Kinds[a.ID] = a.Content, weights.UserToken
		if a.Special {
			t.Kinds[a.ID] = weights.ControlToken
		}
		t.Added = append(t.Added, weights.AddedToken{ID: int32(a.ID), Text: a.Content, Control: a.Special, LeftStrip: a.Left, RightStrip: a.Right,
			SingleWord: a.SingleWord, Normalized: a.Normalized})
	}
	var err error
	if t.Normalizers, err = normalizers(d.Normalizer.component); err != nil {
		return nil, fmt.Errorf("normalizer: %w", err)
	}
	if t.Splitters, err = splitters(d.PreTokenizer.component); err != nil {
		return nil, fmt.Errorf("pre_tokenizer: %w", err)
	}
	if t.Decoders, err = decoders(d.Decoder.component); err != nil {
		return nil, fmt.Errorf("decoder: %w", err)
	}
	if err := postProcess(t, d.PostProcessor.component); err != nil {
		return nil, fmt.Errorf("post_processor: %w", err)
	}
	byteLevel := func(s weights.Step) bool { return s.Name == "ByteLevel" }
	if t.Model == weights.BPE && (slices.ContainsFunc(t.Splitters, byteLevel) || slices.ContainsFunc(t.Decoders, byteLevel)) {
		t.Model = weights.ByteLevelBPE
	}
	for _, fill := range []struct {
		id    *int32
		texts []string
	}{
		{&t.FillBefore, []string{"<|fim_prefix|>", "<fim_prefix>", "<|fim_begin|>", "<PRE>", "▁<PRE>"}},
		{&t.FillAfter, []string{"<|fim_suffix|>", "<fim_suffix>", "<|fim_hole|>", "<SUF>", "▁<SUF>"}},
		{&t.FillMiddle, []string{"<|fim_middle|>", "<fim_middle>", "<|fim_end|>", "<MID>", "▁<MID>"}},
	} {
		for _, a := range t.Added {
			if slices.Contains(fill.texts, a.Text) {
				*fill.id = a.ID
			}
		}
	}
	return t, nil
}

// highestID bounds the numbers of so many tokens: some may be left out, but a file of a few tokens does not justify a
// table of millions.
func highestID(tokens int) int64 { return 2*int64(tokens) + 1<<16 }

func readModel(t *weights.Tokenizer, raw json.RawMessage) error {
	var m struct {
		Type         string          `json:"type"`
		Vocab        json.RawMessage `json:"vocab"`
		Merges       json.RawMessage `json:"merges"`
		Unknown      *string         `json:"unk_token"`
		UnknownID    *int32          `json:"unk_id"`
		ByteFallback bool            `json:"byte_fallback"`
		FuseUnknown  bool            `json:"fuse_unk"`
		IgnoreMerges bool            `json:"ignore_merges"`
		Continuation *string         `json:"continuing_subword_prefix"`
		WordEnd      *string         `json:"end_of_word_suffix"`
		MaxWord      int             `json:"max_input_chars_per_word"`
	}
	if len(raw) == 0 {
		return errors.New("it is missing")
	}
	if err := json.Unmarshal(raw, &m); err != nil {
		return err
	}
	if m.Type == "" { // older files leave it out
		switch {
		case len(m.Merges) > 0:
			m.Type = "BPE"
		case m.UnknownID != nil:
			m.Type = "Unigram"
		case m.MaxWord > 0:
			m.Type = "WordPiece"
		}
	}
	t.ByteFallback, t.FuseUnknown, t.IgnoreMerges, t.MaxWord = m.ByteFallback, m.FuseUnknown, m.IgnoreMerges, m.MaxWord
	if m.Continuation != nil {
		t.Continuation = *m.Continuation
	}
	if m.WordEnd != nil && *m.WordEnd != "" {
		return fmt.Errorf("end_of_word_suffix %q is not supported", *m.WordEnd)
	}
	switch m.Type {
	case "BPE":
		t.Model = weights.BPE
	case "Unigram":
		t.Model, t.FuseUnknown = weights.Unigram, true
		return readScored(t, m.Vocab, m.UnknownID)
	case "WordPiece":
		t.Model = weights.WordPiece
	default:
		return fmt.Errorf("type %q is not supported; BPE, Unigram and WordPiece are", m.Type)
	}
	var vocab map[string]int64
	if err := json.Unmarshal(m.Vocab, &vocab); err != nil {
		return fmt.Errorf("vocab: %w", err)
	}
	size := int64(0)
	for token, id := range vocab {
		if id < 0 || id > highestID(len(vocab)) {
			return fmt.Errorf("the token %q has the number %d", token, id)
		}
		size = max(size, id+1)
	}
	t.Tokens, t.Kinds = make([]string, size), make([]weights.TokenKind, size)
	for i := range t.Kinds {
		t.Kinds[i] = weights.UnusedToken
	}
	for token, id := range vocab {
		if t.Kinds[id] != weights.UnusedToken {
			return fmt.Errorf("the tokens %q and %q have the same number %d", t.Tokens[id], token, id)
		}
		t.Tokens[id], t.Kinds[id] = token, weights.NormalToken
		if m.ByteFallback && isByteToken(token) {
			t.Kinds[id] = weights.ByteToken
		}
	}
	if m.Unknown != nil {
		if id, ok := vocab[*m.Unknown]; ok {
			t.Unknown = int32(id)
		}
	}
	if m.Type == "BPE" {
		return readMerges(t, m.Merges)
	}
	return nil
}

func isByteToken(s string) bool {
	return len(s) == 6 && strings.HasPrefix(s, "<0x") && s[5] == '>'
}

// readMerges reads merges written as "a b" or as ["a", "b"].
func readMerges(t *weights.Tokenizer, raw json.RawMessage) error {
	trimmed := bytes.TrimLeft(bytes.TrimPrefix(bytes.TrimSpace(raw), []byte("[")), " \t\r\n")
	if len(trimmed) > 0 && trimmed[0] == '[' {
		var pairs [][]string
		if err := json.Unmarshal(raw, &pairs); err != nil {
			return fmt.Errorf("merges: %w", err)
		}
		t.Merges = make([]weights.Merge, len(pairs))
		for i, p := range pairs {
			if len(p) != 2 {
				return fmt.Errorf("merge %d joins %d tokens", i, len(p))
			}
			t.Merges[i] = weights.Merge{Left: p[0], Right: p[1]}
		}
		return nil
	}
	var lines []string
	if err := json.Unmarshal(raw, &lines); err != nil {
		return fmt.Errorf("merges: %w", err)
	}
	t.Merges = make([]weights.Merge, len(lines))
	for i, l := range lines {
		left, right, ok := strings.Cut(l, " ")
		if !ok {
			return fmt.Errorf("merge %d, %q, does not join two tokens", i, l)
		}
		t.Merges[i] = weights.Merge{Left: left, Right: right}
	}
	return nil
}

// readScored reads a vocabulary of tokens with their scores.
func readScored(t *weights.Tokenizer, raw json.RawMessage, unknown *int32) error {
	var list [][]any
	if err := json.Unmarshal(raw, &list); err != nil {
		return fmt.Errorf("vocab: %w", err)
	}
	for i, e := range list {
		if len(e) != 2 {
			return fmt.Errorf("token %d has %d parts; it must be its text and its score", i, len(e))
		}
		text, okText := e[0].(string)
		score, okScore := e[1].(float64)
		if !okText || !okScore {
			return fmt.Errorf("token %d is %v; it must be a text and a score", i, e)
		}
		t.Tokens, t.Scores, t.Kinds = append(t.Tokens, text), append(t.Scores, float32(score)), append(t.Kinds, weights.NormalToken)
		if t.ByteFallback && isByteToken(text) {
			t.Kinds[i] = weights.ByteToken
		}
	}
	if unknown != nil {
		if *unknown < 0 || int(*unknown) >= len(list) {
			return fmt.Errorf("unk_id is %d; there are %d tokens", *unknown, len(list))
		}
		t.Unknown, t.Kinds[*unknown] = *unknown, weights.UnknownToken
	}
	return nil
}

func (c *component) text() string {
	var s string
	if json.Unmarshal(c.Content, &s) != nil {
		return ""
	}
	return s
}

// pattern is what a component looks for.
func (c *component) pattern() (pattern string, literal bool, err error) {
	switch {
	case c.Pattern == nil:
		return "", false, fmt.Errorf("%s without a pattern", c.Type)
	case c.Pattern.String != nil:
		return *c.Pattern.String, true, nil
	case c.Pattern.Regex != nil:
		return *c.Pattern.Regex, false, nil
	}
	return "", false, fmt.Errorf("%s with a pattern that is neither text nor an expression", c.Type)
}

func yes(b *bool, otherwise bool) bool {
	if b == nil {
		return otherwise
	}
	return *b
}

func normalizers(c *component) (list []weights.Step, err error) {
	if c == nil {
		return nil, nil
	}
	step := weights.Step{Name: c.Type}
	switch c.Type {
	case "Sequence":
		for i := range c.Normalizers {
			more, err := normalizers(&c.Normalizers[i])
			if err != nil {
				return nil, err
			}
			list = append(list, more...)
		}
		return list, nil
	case "NFC", "NFD", "NFKC", "NFKD", "Lowercase", "StripAccents":
	case "Strip":
		if c.Left == true {
			step.Left = 1
		}
		if c.Right == true {
			step.Right = 1
		}
	case "Prepend":
		step.Content = c.Prepend
	case "Replace":
		step.Content = c.text()
		if step.Pattern, step.Literal, err = c.pattern(); err != nil {
			return nil, err
		}
	case "BertNormalizer":
		step.CleanText, step.Chinese, step.Lowercase = yes(c.CleanText, true), yes(c.Chinese, true), yes(c.Lowercase, true)
		step.StripAccents = yes(c.StripAccents, step.Lowercase)
	default:
		return nil, fmt.Errorf("type %q is not supported", c.Type)
	}
	return []weights.Step{step}, nil
}

var behaviors = map[string]string{
	"Isolated": "isolated", "Removed": "removed", "MergedWithPrevious": "merged_with_previous", "MergedWithNext": "merged_with_next", "Contiguous": "contiguous",
}

func splitters(c *component) (list []weights.Step, err error) {
	if c == nil {
		return nil, nil
	}
	step := weights.Step{Name: c.Type, Invert: c.Invert}
	switch c.Type {
	case "Sequence":
		for i := range c.PreTokenizers {
			more, err := splitters(&c.PreTokenizers[i])
			if err != nil {
				return nil, err
			}
			list = append(list, more...)
		}
		return list, nil
	case "Split", "Punctuation":
		var ok bool
		if step.Behavior, ok = behaviors[c.Behavior]; !ok {
			if c.Type == "Split" || c.Behavior != "" {
				return nil, fmt.Errorf("%s with behavior %q is not supported", c.Type, c.Behavior)
			}
			step.Behavior = "isolated"
		}
		if c.Type == "Split" {
			if step.Pattern, step.Literal, err = c.pattern(); err != nil {
				return nil, err
			}
		}
	case "ByteLevel":
		if yes(c.AddPrefix, true) {
			list = append(list, weights.Step{Name: "PrefixSpace", Content: " "})
		}
		if yes(c.UseRegex, true) {
			list = append(list, weights.Step{Name: "Split", Pattern: splitGPT2, Behavior: "isolated"})
		}
	case "Digits":
		step = weights.Step{Name: "Split", Pattern: `\p{N}+`, Behavior: "isolated"}
		if c.Individual {
			step.Pattern = `\p{N}`
		}
	case "Metaspace":
		mark := c.Replacement
		if mark == "" {
			mark = spaceMark
		}
		list = append(list, weights.Step{Name: "Replace", Literal: true, Pattern: " ", Content: mark})
		switch {
		case c.Scheme == "always", c.Scheme == "" && yes(c.AddPrefix, true):
			list = append(list, weights.Step{Name: "PrefixSpace", Content: mark})
		case c.Scheme == "first":
			list = append(list, weights.Step{Name: "PrefixSpace", Content: mark, First: true})
		}
		if !yes(c.SplitWords, true) {
			return list, nil
		}
		step = weights.Step{Name: "Split", Literal: true, Pattern: mark, Behavior: "merged_with_next"}
	case "Whitespace":
		step = weights.Step{Name: "Split", Pattern: `\w+|[^\w\s]+`, Behavior: "removed", Invert: true}
	case "WhitespaceSplit":
		step = weights.Step{Name: "Split", Pattern: `\s+`, Behavior: "removed"}
	case "BertPreTokenizer":
	default:
		return nil, fmt.Errorf("type %q is not supported", c.Type)
	}
	return append(list, step), nil
}

func decoders(c *component) (list []weights.Step, err error) {
	if c == nil {
		return nil, nil
	}
	step := weights.Step{Name: c.Type}
	switch c.Type {
	case "Sequence":
		for i := range c.Decoders {
			more, err := decoders(&c.Decoders[i])
			if err != nil {
				return nil, err
			}
			list = append(list, more...)
		}
		return list, nil
	case "ByteLevel", "ByteFallback", "Fuse":
	case "Replace":
		step.Content = c.text()
		if step.Pattern, step.Literal, err = c.pattern(); err == nil && !step.Literal {
			err = errors.New("a decoder that replaces an expression is not supported")
		}
		if err != nil {
			return nil, err
		}
	case "Strip":
		step.Content, step.Left, step.Right = c.text(), c.Start, c.Stop
	case "Metaspace":
		mark := c.Replacement
		if mark == "" {
			mark = spaceMark
		}
		list = append(list, weights.Step{Name: "Replace", Literal: true, Pattern: mark, Content: " "})
		if c.Scheme == "never" || c.Scheme == "" && !yes(c.AddPrefix, true) {
			return list, nil
		}
		step = weights.Step{Name: "Strip", Content: " ", Left: 1}
	case "WordPiece":
		step.Content = c.Prefix
	default:
		return nil, fmt.Errorf("type %q is not supported", c.Type)
	}
	return append(list, step), nil
}

// postProcess reads which tokens come before and after a text.
func postProcess(t *weights.Tokenizer, c *component) error {
	if c == nil {
		return nil
	}
	switch c.Type {
	case "Sequence":
		for i := range c.Processors {
			if err := postProcess(t, &c.Processors[i]); err != nil {
				return err
			}
		}
	case "ByteLevel":
	case "TemplateProcessing":
		to := &t.Prefix
		for _, p := range c.Single {
			switch {
			case p.Sequence != nil:
				to = &t.Suffix
			case p.Special != nil:
				s, ok := c.Special[p.Special.ID]
				if !ok {
					return fmt.Errorf("the special token %q is not defined", p.Special.ID)
				}
				*to = append(*to, s.IDs...)
			}
		}
		return pairProcess(t, c)
	case "BertProcessing", "RobertaProcessing":
		for _, e := range []struct {
			raw json.RawMessage
			to  *[]int32
		}{{c.CLS, &t.Prefix}, {c.SEP, &t.Suffix}} {
			var pair []any
			if err := json.Unmarshal(e.raw, &pair); err != nil || len(pair) != 2 {
				return fmt.Errorf("%s without its tokens", c.Type)
			}
			id, ok := pair[1].(float64)
			if !ok {
				return fmt.Errorf("%s without its tokens", c.Type)
			}
			*e.to = append(*e.to, int32(id))
		}
		if t.Between = slices.Clone(t.Suffix); c.Type == "RobertaProcessing" {
			t.Between = append(t.Between, t.Suffix...)
		}
	default:
		return fmt.Errorf("type %q is not supported", c.Type)
	}
	return known(t)
}

// pairProcess reads which tokens come between two texts.
func pairProcess(t *weights.Tokenizer, c *component) error {
	texts := 0
	for _, p := range c.Pair {
		switch {
		case p.Sequence != nil:
			texts++
		case p.Special != nil && texts == 1:
			t.Between = append(t.Between, c.Special[p.Special.ID].IDs...)
		}
	}
	return known(t)
}

// known refuses tokens around texts that there are not.
func known(t *weights.Tokenizer) error {
	for _, id := range slices.Concat(t.Prefix, t.Suffix, t.Between) {
		if id < 0 || int(id) >= len(t.Tokens) {
			return fmt.Errorf("there is no token %d", id)
		}
	}
	return nil
}
