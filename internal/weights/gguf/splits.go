package gguf

// The expressions by which families of tokenizers split text, as their authors published them.
const (
	splitGPT2 = `'s|'t|'re|'ve|'m|'ll|'d| ?\p{L}+| ?\p{N}+| ?[^\s\p{L}\p{N}]+|\s+(?!\S)|\s+`
	// Up to three digits are together.
	splitThrees = `(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}{1,3}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+`
	// Each digit is alone.
	splitOnes = `(?i:'s|'t|'re|'ve|'m|'ll|'d)|[^\r\n\p{L}\p{N}]?\p{L}+|\p{N}| ?[^\s\p{L}\p{N}]+[\r\n]*|\s*[\r\n]+|\s+(?!\S)|\s+`
	// Words are split where small letters end and capitals begin.
	splitCases      = `[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]*[\p{Ll}\p{Lm}\p{Lo}\p{M}]+(?i:'s|'t|'re|'ve|'m|'ll|'d)?|[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]+[\p{Ll}\p{Lm}\p{Lo}\p{M}]*(?i:'s|'t|'re|'ve|'m|'ll|'d)?|\p{N}{1,3}| ?[^\s\p{L}\p{N}]+[\r\n/]*|\s*[\r\n]+|\s+(?!\S)|\s+`
	splitCasesOnes  = `[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]*[\p{Ll}\p{Lm}\p{Lo}\p{M}]+|[^\r\n\p{L}\p{N}]?[\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}]+[\p{Ll}\p{Lm}\p{Lo}\p{M}]*|\p{N}| ?[^\s\p{L}\p{N}]+[\r\n/]*|\s*[\r\n]+|\s+(?!\S)|\s+`
	splitSymbols    = "[!\"#$%&'()*+,\\-./:;<=>?@\\[\\\\\\]^_`{|}~][A-Za-z]+|[^\\r\\n\\p{L}\\p{P}\\p{S}]?[\\p{L}\\p{M}]+| ?[\\p{P}\\p{S}]+[\\r\\n]*|\\s*[\\r\\n]+|\\s+(?!\\S)|\\s+"
	splitPunctuated = ` ?[^(\s|.,!?…。，、।۔،)]+`
	punctuation     = "[\\p{P}\\$\\+<=>\\^~\\|`]+"
	digit           = `\p{N}`
)

// splitNames are the expressions, applied one after the other, by the names in tokenizer.ggml.pre.
var splitNames = map[string][]string{
	"default": {punctuation, splitGPT2, `\p{N}+`, `[0-9][0-9][0-9]`},

	"gpt-2": {splitGPT2}, "mpt": {splitGPT2}, "olmo": {splitGPT2}, "jais": {splitGPT2}, "phi-2": {splitGPT2}, "roberta-bpe": {splitGPT2},
	"jina-es": {splitGPT2}, "jina-de": {splitGPT2}, "jina-v2-code": {splitGPT2}, "gigachat": {splitGPT2}, "modern-bert": {splitGPT2},

	"llama3": {splitThrees}, "llama-v3": {splitThrees}, "llama-bpe": {splitThrees}, "falcon3": {splitThrees}, "pixtral": {splitThrees}, "dbrx": {splitThrees},
	"smaug-bpe": {splitThrees}, "glm4": {splitThrees}, "chatglm-bpe": {splitThrees}, "lfm2": {splitThrees},

	"qwen2": {splitOnes}, "stablelm2": {splitOnes}, "deepseek-r1-qwen": {splitOnes}, "megrez": {splitOnes},

	"gpt-4o": {splitCases}, "llama4": {splitCases}, "tekken": {splitCasesOnes},

	"starcoder": {digit, splitGPT2}, "refact": {digit, splitGPT2}, "command-r": {digit, splitGPT2}, "smollm": {digit, splitGPT2},
	"codeshell": {digit, splitGPT2}, "exaone": {digit, splitGPT2}, "minerva-7b": {digit, splitGPT2},

	"falcon":         {punctuation, splitGPT2, `[0-9][0-9][0-9]`},
	"deepseek-coder": {`[\r\n]`, `\s?\p{L}+`, `\s?\p{P}+`, `[一-龥ࠀ-一가-퟿]+`, digit},
	"deepseek-v3":    {`\p{N}{1,3}`, `[一-龥぀-ゟ゠-ヿ]+`, splitSymbols},
	"bloom":          {splitPunctuated}, "gpt3-finnish": {splitPunctuated}, "poro-chat": {splitPunctuated},
	"viking": {splitPunctuated, digit},
}

// wholeWords are the names of tokenizers in which a word that is a token is taken as it is, whatever the merges say.
var wholeWords = []string{"llama3", "llama-v3", "llama-bpe", "falcon3", "pixtral", "tekken"}
