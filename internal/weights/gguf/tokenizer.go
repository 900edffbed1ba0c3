package gguf

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"kindredgate/internal/weights"
)

// tokenizerModels are the kinds of tokenizers by the names that the files give them.
var tokenizerModels = map[string]weights.TokenizerModel{
	"gpt2": weights.ByteLevelBPE, "llama": weights.BPE, "t5": weights.Unigram, "bert": weights.WordPiece,
}

// kinds are the kinds of tokens by their numbers in the metadata.
var kinds = map[int32]weights.TokenKind{
	1: weights.NormalToken, 2: weights.UnknownToken, 3: weights.ControlToken, 4: weights.UserToken, 5: weights.UnusedToken, 6: weights.ByteToken,
}

// space is how SentencePiece writes one.
const space = "▁"

// tokenizerFault finds out whether a tokenizer is one that can be built, without reading its vocabulary.
func tokenizerFault(md Metadata) error {
	name, err := md.String("tokenizer.ggml.model")
	if err != nil {
		return err
	}
	kind, ok := tokenizerModels[name]
	if !ok {
		return unknownTokenizer(name)
	}
	tokens, err := md.array("tokenizer.ggml.tokens", KindString, "an array of strings")
	if err != nil {
		return err
	}
	for _, key := range specialTokens {
		if id, err := md.Int("tokenizer.ggml." + key); err == nil && id != math.MaxUint32 && (id < 0 || id >= tokens.Len) {
			return fmt.Errorf("metadata tokenizer.ggml.%s is %d; there are %d tokens", key, id, tokens.Len)
		}
	}
	if kind == weights.ByteLevelBPE {
		_, _, err = splitsOf(md)
	}
	return err
}

// specialTokens are the keys that name a token by its number.
var specialTokens = []string{"bos_token_id", "eos_token_id", "unknown_token_id", "fim_pre_token_id", "fim_suf_token_id", "fim_mid_token_id", "seperator_token_id"}

func unknownTokenizer(name string) error {
	return fmt.Errorf("tokenizer %q is not supported; gpt2, llama, t5 and bert are", name)
}

// splitsOf are the expressions by which text is split, of which the file has the name.
func splitsOf(md Metadata) (expressions []string, name string, err error) {
	name, err = md.String("tokenizer.ggml.pre")
	if missing := (*MissingError)(nil); errors.As(err, &missing) {
		name = "default"
	} else if err != nil {
		return nil, "", err
	}
	expressions, ok := splitNames[name]
	if !ok {
		return nil, "", fmt.Errorf("pre-tokenizer %q is not supported; these are: %s", name, strings.Join(slices.Sorted(maps.Keys(splitNames)), ", "))
	}
	return expressions, name, nil
}

// readTokenizer reads the definition of a tokenizer. Every inconsistency in it is an error.
func readTokenizer(md Metadata) (*weights.Tokenizer, error) {
	k := &keys{md: md, read: map[string]bool{}}
	name, err := md.String("tokenizer.ggml.model")
	if err != nil {
		return nil, err
	}
	t := &weights.Tokenizer{Unknown: k.id("tokenizer.ggml.unknown_token_id"), BOS: k.id("tokenizer.ggml.bos_token_id"), EOS: k.id("tokenizer.ggml.eos_token_id"),
		FillBefore: k.id("tokenizer.ggml.fim_pre_token_id"), FillAfter: k.id("tokenizer.ggml.fim_suf_token_id"), FillMiddle: k.id("tokenizer.ggml.fim_mid_token_id")}
	var ok bool
	if t.Model, ok = tokenizerModels[name]; !ok {
		return nil, unknownTokenizer(name)
	}
	if t.Tokens, err = md.Strings("tokenizer.ggml.tokens"); err != nil {
		return nil, err
	}
	if len(t.Tokens) > math.MaxInt32 {
		return nil, fmt.Errorf("%d tokens are too many", len(t.Tokens))
	}
	t.Kinds = make([]weights.TokenKind, len(t.Tokens))
	numbers, err := md.Int32s("tokenizer.ggml.token_type")
	if missing := (*MissingError)(nil); err != nil && !errors.As(err, &missing) {
		return nil, err
	} else if err == nil {
		if len(numbers) != len(t.Tokens) {
			return nil, fmt.Errorf("%d tokens but %d token types", len(t.Tokens), len(numbers))
		}
		for i, n := range numbers {
			t.Kinds[i] = kinds[n] // a number that nobody has given a meaning is a normal token
		}
	}
	t.Scores = k.floats("tokenizer.ggml.scores")
	for i, kind := range t.Kinds {
		if kind == weights.ControlToken || kind == weights.UserToken {
			t.Added = append(t.Added, weights.AddedToken{ID: int32(i), Text: t.Tokens[i], Control: kind == weights.ControlToken})
		}
	}
	switch t.Model {
	case weights.ByteLevelBPE:
		err = byteLevel(t, md)
	case weights.BPE:
		sentencePiece(t, k)
		t.ByteFallback, t.FuseUnknown = true, true
		if t.Scores == nil {
			err = errors.New("metadata tokenizer.ggml.scores is missing")
		}
	case weights.Unigram:
		sentencePiece(t, k)
		t.FuseUnknown = true
		if _, ok := md["tokenizer.ggml.precompiled_charsmap"]; ok {
			return nil, errors.New("the tokenizer normalizes text by a compiled table (precompiled_charsmap), which is not supported")
		}
	case weights.WordPiece:
		wordPiece(t)
	}
	if err == nil {
		err = k.err
	}
	if err != nil {
		return nil, err
	}
	add := func(key string, otherwise bool) bool {
		if v := k.bool(key); v != nil {
			return *v
		}
		return otherwise
	}
	if add("tokenizer.ggml.add_bos_token", t.Model == weights.BPE || t.Model == weights.WordPiece) && t.BOS >= 0 {
		t.Prefix = []int32{t.BOS}
	}
	switch separator := k.id("tokenizer.ggml.seperator_token_id"); {
	case t.Model == weights.WordPiece && separator >= 0 && add("tokenizer.ggml.add_sep_token", true):
		t.Suffix = []int32{separator}
	case add("tokenizer.ggml.add_eos_token", t.Model == weights.Unigram) && t.EOS >= 0:
		t.Suffix = []int32{t.EOS}
	}
	return t, k.err
}

// byteLevel reads merges and how text is split.
func byteLevel(t *weights.Tokenizer, md Metadata) error {
	splits, name, err := splitsOf(md)
	if err != nil {
		return err
	}
	t.IgnoreMerges = slices.Contains(wholeWords, name)
	for _, expression := range splits {
		t.Splitters = append(t.Splitters, weights.Step{Name: "Split", Pattern: expression, Behavior: "isolated"})
	}
	t.Splitters = append(t.Splitters, weights.Step{Name: "ByteLevel"})
	t.Decoders = []weights.Step{{Name: "ByteLevel"}}
	merges, err := md.Strings("tokenizer.ggml.merges")
	if err != nil {
		return err
	}
	t.Merges = make([]weights.Merge, len(merges))
	for i, m := range merges {
		// A token may begin with the byte that separates the two, so the separator is not the first byte.
		at := -1
		if len(m) > 0 {
			at = strings.IndexByte(m[1:], ' ')
		}
		if at < 0 {
			return fmt.Errorf("merge %d, %q, does not join two tokens", i, m)
		}
		t.Merges[i] = weights.Merge{Left: m[:at+1], Right: m[at+2:]}
	}
	return nil
}

// sentencePiece writes spaces as SentencePiece does.
func sentencePiece(t *weights.Tokenizer, k *keys) {
	prefix := k.bool("tokenizer.ggml.add_space_prefix")
	front := prefix == nil || *prefix
	t.Decoders = []weights.Step{{Name: "Replace", Literal: true, Pattern: space, Content: " "}, {Name: "ByteFallback"}, {Name: "Fuse"}}
	if front {
		t.Normalizers = append(t.Normalizers, weights.Step{Name: "Prepend", Content: space})
		t.Decoders = append(t.Decoders, weights.Step{Name: "Strip", Content: " ", Left: 1})
	}
	t.Normalizers = append(t.Normalizers, weights.Step{Name: "Replace", Literal: true, Pattern: " ", Content: space})
}

// wordPiece turns the file's marks, which are at the beginnings of words, into those of continuations.
func wordPiece(t *weights.Tokenizer) {
	t.Continuation, t.MaxWord = "##", 100
	for i, token := range t.Tokens {
		if t.Kinds[i] != weights.NormalToken {
			continue
		}
		if whole, ok := strings.CutPrefix(token, space); ok {
			t.Tokens[i] = whole
		} else {
			t.Tokens[i] = t.Continuation + token
		}
	}
	t.Normalizers = []weights.Step{{Name: "BertNormalizer", CleanText: true, Chinese: true, StripAccents: true, Lowercase: true}}
	t.Splitters = []weights.Step{{Name: "BertPreTokenizer"}}
	t.Decoders = []weights.Step{{Name: "WordPiece", Content: t.Continuation}}
}

// WriteTokenizer gives the metadata that describe a tokenizer. What GGUF has no words for is an error.
func WriteTokenizer(t *weights.Tokenizer) ([]Entry, error) {
	var name string
	for n, m := range tokenizerModels {
		if m == t.Model {
			name = n
		}
	}
	tokens, types := make([]string, len(t.Tokens)), make([]int32, len(t.Tokens))
	copy(tokens, t.Tokens)
	for i, k := range t.Kinds {
		for n, kind := range kinds {
			if kind == k {
				types[i] = n
			}
		}
		if tokens[i] == "" {
			tokens[i] = fmt.Sprintf("[PAD%d]", i)
		}
	}
	list := []Entry{{"tokenizer.ggml.model", name}}
	switch t.Model {
	case weights.ByteLevelBPE:
		pre, err := splitName(t)
		if err != nil {
			return nil, err
		}
		merges := make([]string, len(t.Merges))
		for i, m := range t.Merges {
			merges[i] = m.Left + " " + m.Right
		}
		list = append(list, Entry{"tokenizer.ggml.pre", pre}, Entry{"tokenizer.ggml.merges", merges})
	case weights.BPE:
		prefix := false
		for _, s := range slices.Concat(t.Normalizers, t.Splitters) {
			switch {
			case s.Name == "Prepend" || s.Name == "PrefixSpace":
				prefix = true
			case s.Name == "Replace" && s.Literal && s.Pattern == " " && s.Content == space:
			case s.Name == "Split" && s.Literal && s.Pattern == " ": // never there, since spaces were replaced
			default:
				return nil, fmt.Errorf("its tokenizer has a step %s, which a GGUF file cannot say", s.Name)
			}
		}
		list = append(list, Entry{"tokenizer.ggml.scores", mergeScores(t)}, Entry{"tokenizer.ggml.add_space_prefix", prefix})
	case weights.Unigram:
		list = append(list, Entry{"tokenizer.ggml.scores", t.Scores})
	case weights.WordPiece:
		if len(t.Normalizers) != 1 || !t.Normalizers[0].Lowercase || !t.Normalizers[0].StripAccents {
			return nil, errors.New("its tokenizer does not make letters small and strip accents, which a GGUF file cannot say")
		}
		for i, token := range tokens {
			if t.Kinds[i] != weights.NormalToken {
				continue
			}
			if rest, ok := strings.CutPrefix(token, t.Continuation); ok {
				tokens[i] = rest
			} else {
				tokens[i] = space + token
			}
		}
		list = append(list, Entry{"tokenizer.ggml.token_type_count", uint32(2)})
	}
	list = append(list, Entry{"tokenizer.ggml.tokens", tokens}, Entry{"tokenizer.ggml.token_type", types})
	for _, e := range []struct {
		key string
		id  int32
	}{{"bos", t.BOS}, {"eos", t.EOS}, {"unknown", t.Unknown}, {"fim_pre", t.FillBefore}, {"fim_suf", t.FillAfter}, {"fim_mid", t.FillMiddle}} {
		if e.id >= 0 {
			list = append(list, Entry{"tokenizer.ggml." + e.key + "_token_id", uint32(e.id)})
		}
	}
	if t.Model == weights.WordPiece {
		if len(t.Prefix) == 1 && t.BOS < 0 {
			list = append(list, Entry{"tokenizer.ggml.bos_token_id", uint32(t.Prefix[0])}, Entry{"tokenizer.ggml.cls_token_id", uint32(t.Prefix[0])})
		}
		if len(t.Suffix) == 1 {
			list = append(list, Entry{"tokenizer.ggml.seperator_token_id", uint32(t.Suffix[0])})
		}
		return list, nil
	}
	if len(t.Prefix) > 1 || len(t.Suffix) > 1 || len(t.Prefix) == 1 && t.Prefix[0] != t.BOS || len(t.Suffix) == 1 && t.Suffix[0] != t.EOS {
		return nil, errors.New("its tokenizer puts tokens around texts that are not its begin and end, which a GGUF file cannot say")
	}
	return append(list, Entry{"tokenizer.ggml.add_bos_token", len(t.Prefix) == 1}, Entry{"tokenizer.ggml.add_eos_token", len(t.Suffix) == 1}), nil
}

// splitName is the name of a tokenizer's expressions.
func splitName(t *weights.Tokenizer) (string, error) {
	var splits []string
	for _, s := range t.Splitters {
		switch s.Name {
		case "Split":
			splits = append(splits, s.Pattern)
		case "ByteLevel":
		default:
			return "", fmt.Errorf("its pre-tokenizer has a step %s, which a GGUF file cannot say", s.Name)
		}
	}
	var names []string
	for name, expressions := range splitNames {
		if slices.Equal(expressions, splits) && slices.Contains(wholeWords, name) == t.IgnoreMerges {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return "", fmt.Errorf("its pre-tokenizer splits by %q, for which GGUF has no name", splits)
	}
	return slices.Min(names), nil
}

// mergeScores orders tokens as their merges do. Those that no merge makes are last.
func mergeScores(t *weights.Tokenizer) []float32 {
	if t.Scores != nil {
		return t.Scores
	}
	ids := make(map[string]int32, len(t.Tokens))
	scores := make([]float32, len(t.Tokens))
	for i, token := range t.Tokens {
		ids[token], scores[i] = int32(i), -1e9
	}
	for rank, m := range t.Merges {
		if id, ok := ids[m.Left+m.Right]; ok && scores[id] == -1e9 {
			scores[id] = -float32(rank)
		}
	}
	return scores
}
