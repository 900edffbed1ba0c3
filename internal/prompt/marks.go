package prompt

import (
	"fmt"
	"regexp"
	"strings"

	"kindredgate/internal/tokenizer"
)

// Marks of turns, as models write them, and the labels by which people write down a conversation. Where they stand within one message
// or one prompt, somebody has put a whole conversation into it, which the model may read as something else.
var (
	turnMark  = regexp.MustCompile(`<\|[A-Za-z_]{2,24}\|>|<(?:start|end)_of_turn>|\[/?INST\]|<</?SYS>>|(?m:^### ?(?:Instruction|Response|System|User|Assistant|Human)\b)`)
	roleLabel = regexp.MustCompile(`(?m)^[ \t]*(System|User|Human|Assistant|AI|Bot)[ \t]*:`)
)

// longMarked bounds how much of a text is looked through, in bytes, and how many marks are named.
const (
	longMarked = 256 << 10
	mostMarks  = 4
)

// marksIn warns of marks in a message, where nothing is a control token.
func marksIn(path, text string) (warnings []string) {
	text = text[:min(len(text), longMarked)]
	if list := distinct(turnMark.FindAllString(text, -1), func(string) bool { return true }); len(list) > 0 {
		warnings = append(warnings, fmt.Sprintf("%s holds %s: in a message that is plain text, and begins or ends no turn", path, strings.Join(list, ", ")))
	}
	var labels []string
	for _, m := range roleLabel.FindAllStringSubmatch(text, -1) {
		labels = append(labels, m[1]+":")
	}
	if list := distinct(labels, func(string) bool { return true }); len(list) > 1 {
		warnings = append(warnings, fmt.Sprintf("%s holds what looks like a conversation (%s): send each turn as a message of its own, and the template marks it", path, strings.Join(list, ", ")))
	}
	return warnings
}

// foreignMarks warns of marks in a raw prompt that are no control tokens of this model.
func foreignMarks(tok *tokenizer.Tokenizer, text string) []string {
	list := distinct(turnMark.FindAllString(text[:min(len(text), longMarked)], -1), func(mark string) bool { return tok.Control(mark) < 0 })
	if len(list) == 0 {
		return nil
	}
	return []string{fmt.Sprintf("the prompt holds %s, which this model does not know as marks: it reads them as plain text", strings.Join(list, ", "))}
}

// distinct are the quoted texts of a list that are wanted, each once.
func distinct(list []string, wanted func(string) bool) (out []string) {
	seen := map[string]bool{}
	for _, s := range list {
		if !seen[s] && wanted(s) && len(out) < mostMarks {
			out = append(out, fmt.Sprintf("%q", s))
		}
		seen[s] = true
	}
	return out
}
