package weights

// Tokenizer is the definition of a tokenizer, whichever file it is from.
type Tokenizer struct {
	Model  TokenizerModel
	Tokens []string // written as the model's kind has it, by id
	// Scores order the merges of BPE that names none, and are the log-probabilities of unigram.
	Scores []float32
	Kinds  []TokenKind
	Merges []Merge // by rank; nil if Scores order them

	ByteFallback bool  // characters without a token are written as tokens of their bytes
	Unknown      int32 // the token for what has none; -1 if there is none
	FuseUnknown  bool  // whether unknown characters in a row are one token
	IgnoreMerges bool  // whether a word that is a token is taken as it is
	Continuation string
	MaxWord      int // characters of a word of WordPiece; longer ones are unknown

	Normalizers []Step
	Splitters   []Step // the pre-tokenizers
	Decoders    []Step

	Added []AddedToken

	BOS, EOS       int32 // -1 if there is none
	Prefix, Suffix []int32
	// Between are the tokens between two texts that belong together; nil if the files do not say.
	Between []int32
	// FillBefore, FillAfter and FillMiddle are the tokens by which a model is asked for what stands between a beginning
	// and an end; -1 if there are none.
	FillBefore, FillAfter, FillMiddle int32
}

// TokenizerModel is a kind of tokenizer.
type TokenizerModel string

// The kinds.
const (
	ByteLevelBPE TokenizerModel = "byte-level BPE"
	BPE          TokenizerModel = "BPE" // over characters, as SentencePiece has it
	Unigram      TokenizerModel = "unigram"
	WordPiece    TokenizerModel = "WordPiece"
)

// TokenKind says what a token is for.
type TokenKind uint8

// The kinds of tokens.
const (
	NormalToken  TokenKind = iota
	UnknownToken           // stands for what has no token
	ControlToken           // no text of its own
	UserToken              // text that is a token wherever it stands
	UnusedToken
	ByteToken // one byte
)

// Merge joins two tokens into one.
type Merge struct{ Left, Right string }

// AddedToken is a token that is recognised in text before anything else is done with it.
type AddedToken struct {
	ID         int32
	Text       string
	Control    bool
	LeftStrip  bool // takes the white space before it
	RightStrip bool // takes the white space after it
	SingleWord bool // only where no letter or digit is next to it
	Normalized bool // looked for in normalized text
}

// Step is one of the operations of which normalizers, pre-tokenizers and decoders are made, by the name that
// tokenizer.json gives it.
type Step struct {
	Name    string
	Pattern string // an expression, or text if Literal
	Literal bool
	Content string // what takes the pattern's place
	// Behavior is what becomes of the pattern's matches in a split: isolated, removed, merged_with_previous,
	// merged_with_next, contiguous.
	Behavior string
	Invert   bool
	First    bool // only at the beginning of the text
	Left     int  // characters to strip, or 1 for all white space
	Right    int

	CleanText, Chinese, StripAccents, Lowercase bool // of BertNormalizer
	Data                                        []byte
}
