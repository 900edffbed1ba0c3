package placement

import (
	"encoding/binary"
	"hash/fnv"
	"slices"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"

	"kindredgate/internal/exchange"
)

// blockBytes is how much of a request one link of a chain stands for: about a hundred tokens. It is bytes rather than tokens, because a gate
// does not have the tokenizers of other machines.
const blockBytes = 512

// bytesOfToken is how many a token has, roughly.
const bytesOfToken = 4

// Chain is how a request begins: a link for each block of its text, which depends on all blocks before it. Requests that begin alike have
// chains that begin alike.
func Chain(req *exchange.Request) (chain []uint32) {
	h := fnv.New64a()
	filled := 0
	put := func(text string) {
		for len(text) > 0 {
			n := min(len(text), blockBytes-filled)
			h.Write([]byte(text[:n]))
			text = text[n:]
			if filled += n; filled == blockBytes {
				filled = 0
				sum := h.Sum64()
				chain = append(chain, uint32(sum^sum>>32))
			}
		}
	}
	if req.Raw != nil {
		put(req.Raw.Text)
		return chain
	}
	for _, t := range req.Tools {
		put("\x00t" + t.Name + "\x00" + t.Description + "\x00" + string(t.Parameters))
	}
	for _, t := range req.Turns {
		put("\x00" + string(t.Role) + "\x00")
		for _, p := range t.Parts {
			switch p := p.(type) {
			case exchange.Text:
				put(string(p))
			case exchange.Refusal:
				put(string(p))
			case exchange.Image:
				put(p.URL)
			case exchange.ToolCall:
				put(p.Name + "\x00" + p.Arguments)
			case exchange.ToolResult:
				put(p.Content)
			}
		}
	}
	return chain
}

// Known are links that a machine has read, in ascending order.
type Known []uint32

// Tokens is about how many tokens at the beginning of a request are known, by its chain.
func (k Known) Tokens(chain []uint32) int {
	n := 0
	for _, link := range chain {
		if _, ok := slices.BinarySearch(k, link); !ok {
			break
		}
		n++
	}
	return n * blockBytes / bytesOfToken
}

// Bytes writes the links in four bytes each, and KnownFrom reads them; what is more than mostLinks is left out.
func (k Known) Bytes() []byte {
	out := make([]byte, 0, 4*len(k))
	for _, link := range k {
		out = binary.LittleEndian.AppendUint32(out, link)
	}
	return out
}

// KnownFrom reads what [Known.Bytes] has written, by whoever that was.
func KnownFrom(raw []byte) (k Known) {
	for len(raw) >= 4 && len(k) < mostLinks {
		k = append(k, binary.LittleEndian.Uint32(raw))
		raw = raw[4:]
	}
	slices.Sort(k)
	return k
}

// mostLinks is how many of a model are remembered and told: 128 thousand tokens.
const mostLinks = 1024

// Memory remembers how the latest requests to a model began. It is safe for concurrent use.
type Memory struct {
	mu    sync.Mutex
	links *lru.Cache[uint32, struct{}]
}

// Add notes a request that was read.
func (m *Memory) Add(chain []uint32) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.links == nil {
		m.links, _ = lru.New[uint32, struct{}](mostLinks) // its only error is for a size below 1
	}
	for _, link := range slices.Backward(chain) { // so that what makes room is an end before the beginning
		m.links.Add(link, struct{}{})
	}
}

// Forget forgets all, as a model that is unloaded does.
func (m *Memory) Forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.links = nil
}

// Known are the links that are remembered.
func (m *Memory) Known() Known {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.links == nil {
		return nil
	}
	k := Known(m.links.Keys())
	slices.Sort(k)
	return k
}
