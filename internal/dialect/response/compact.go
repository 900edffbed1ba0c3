package response

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"kindredgate/internal/exchange"
)

// What the standard calls encrypted content is for clients to keep and to send back. There is nothing to hide in it here, since what it
// holds is the client's own, and stands beside it in the clear or could be asked for; so it is only put into one opaque text.

const sealMark = "kg1."

func seal(text string) string { return sealMark + base64.RawURLEncoding.EncodeToString([]byte(text)) }

func unseal(sealed string) (string, error) {
	body, ok := strings.CutPrefix(sealed, sealMark)
	if !ok {
		return "", errors.New("it does not begin as such")
	}
	text, err := base64.RawURLEncoding.DecodeString(body)
	return string(text), err
}

const compactionType = "compaction"

// Compaction is a conversation made shorter: what was asked, and an item that stands for all of it.
type Compaction struct {
	ID        string `json:"id"`
	Object    string `json:"object"` // "response.compaction"
	CreatedAt int64  `json:"created_at"`
	Output    []any  `json:"output"`
	Usage     *Usage `json:"usage"`
}

// Compacted is an item that stands for a conversation.
type Compacted struct {
	Type      string `json:"type"` // "compaction"
	ID        string `json:"id"`
	Encrypted string `json:"encrypted_content"`
}

// compactInstructions ask a model for a summary.
const compactInstructions = "Write down what was said in this conversation so far, so that somebody who has not read it can go on with it: what was asked and answered, names, numbers, decisions, and what is still open. Leave out greetings. Write the summary alone."

// ToSummary makes the conversation of a call one that asks for its summary.
func (c *Call) ToSummary() {
	c.Tools, c.Choice, c.Format, c.Thinking, c.Effort, c.Truncate = nil, exchange.Choice{}, exchange.Format{}, false, "", true
	c.Turns = append(c.Turns, exchange.Turn{Role: exchange.User, Parts: []exchange.Part{exchange.Text(compactInstructions)}})
}

// NewCompaction makes the answer of a summary. asked are the items of the conversation.
func NewCompaction(id string, created time.Time, asked []json.RawMessage, summary string, usage Usage) *Compaction {
	c := &Compaction{ID: responsePrefix + id, Object: "response.compaction", CreatedAt: created.Unix(), Output: []any{}, Usage: &usage}
	for _, item := range asked {
		var m struct{ Type, Role string }
		if json.Unmarshal(item, &m) == nil && (m.Type == "message" || m.Type == "") && m.Role == string(exchange.User) {
			c.Output = append(c.Output, item)
		}
	}
	c.Output = append(c.Output, Compacted{compactionType, "cmp_" + id + "_0", seal(summary)})
	return c
}

// Count is the answer to a request whose tokens were counted.
type Count struct {
	Object string `json:"object"` // "response.input_tokens"
	Tokens int    `json:"input_tokens"`
}
