package prompt

import (
	"fmt"
	"strings"

	"kindredgate/internal/exchange"
	"kindredgate/internal/jinja"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/vision"
)

// Pictures in prompts. A template writes a mark for each; here the marks become what the model was trained with, before the text is made into tokens,
// so that line breaks around a mark join with their neighbours. Only marks in text that the template itself wrote count: one that a user
// types is text.

// Sight says how a model sees pictures. Plan is how one is read; its error is the client's.
type Sight struct {
	Marks vision.Marks
	Plan  func(exchange.Image) (vision.Plan, error)
}

// Picture is a picture of the prompt.
type Picture struct {
	Image      exchange.Image
	Origin     string // the part of the request that it is from
	Start, End int    // bytes of the text that stand for it
	Plan       vision.Plan
	Pieces     []Piece
}

// Said is the picture in a few words.
func (p *Picture) Said() string {
	if h := p.Image.Seen; h != nil {
		return fmt.Sprintf("[picture, %d × %d, read as %d × %d]", h.Width, h.Height, p.Plan.ReadWidth, p.Plan.ReadHeight)
	}
	return fmt.Sprintf("[picture, read as %d × %d]", p.Plan.ReadWidth, p.Plan.ReadHeight)
}

// Piece is some tokens of a prompt, from At on, that stand for rows of a picture, from First on.
type Piece struct{ At, First, N int }

// imagePath is what a picture is called in the origins of a prompt.
func imagePath(path string, turn exchange.Turn, part int) string {
	if part < turn.Preset {
		return fmt.Sprintf("%s.content[%d]", path, part)
	}
	return fmt.Sprintf("%s.content[%d]", path, part-turn.Preset)
}

// pictured reports whether there is a picture in a turn.
func pictured(turn exchange.Turn) bool {
	for _, p := range turn.Parts {
		if _, ok := p.(exchange.Image); ok {
			return true
		}
	}
	return false
}

// parts is the content of a turn with pictures as the list of parts that templates which take pictures go through.
func parts(path string, turn exchange.Turn) *jinja.List {
	list := jinja.NewList(path + ".content")
	for i, p := range turn.Parts {
		from := imagePath(path, turn, i)
		part := jinja.NewDict(from)
		switch p := p.(type) {
		case exchange.Text:
			part.Set("type", jinja.NewText("text", from))
			part.Set("text", jinja.NewText(string(p), from))
		case exchange.Refusal:
			part.Set("type", jinja.NewText("text", from))
			part.Set("text", jinja.NewText(string(p), from))
		case exchange.ToolResult:
			part.Set("type", jinja.NewText("text", from))
			part.Set("text", jinja.NewText(p.Content, from))
		case exchange.Image: // templates ask for it by either of two keys
			part.Set("type", jinja.NewText("image", from))
			part.Set("image", jinja.NewText("", from))
		case exchange.ToolCall:
			continue
		}
		list.Items = append(list.Items, part)
	}
	return list
}

// pictures are those of a conversation, in order, with how they are read.
func (c *Conversation) pictures() (list []Picture, err error) {
	paths := Paths(c.Turns)
	for i, turn := range c.Turns {
		for j, p := range turn.Parts {
			image, ok := p.(exchange.Image)
			if !ok {
				continue
			}
			if c.Sight == nil {
				return nil, image.Untaken()
			}
			plan, err := c.Sight.Plan(image)
			if err != nil {
				return nil, err
			}
			list = append(list, Picture{Image: image, Origin: imagePath(paths[i], turn, j), Plan: plan})
		}
	}
	return list, nil
}

// writeOut puts what stands for pictures in the place of the template's marks, each of which belongs to the next picture.
func (c *Conversation) writeOut(out jinja.Output, list []Picture) (jinja.Output, error) {
	if len(list) == 0 {
		return out, nil
	}
	m := &c.Sight.Marks
	var written strings.Builder
	var spans []jinja.Span
	add := func(text string, o jinja.Origin) {
		if text != "" {
			written.WriteString(text)
			spans = append(spans, jinja.Span{End: written.Len(), Origin: o})
		}
	}
	from, next := 0, 0
	for _, s := range out.Spans {
		text := out.Text[from:s.End]
		from = s.End
		for s.Origin.Path == "" {
			before, after, ok := strings.Cut(text, m.Mark)
			if !ok {
				break
			}
			add(before, s.Origin)
			if next < len(list) {
				p := &list[next]
				p.Start = written.Len()
				add(m.Written(p.Plan), jinja.Origin{Path: p.Origin})
				p.End = written.Len()
			}
			next++
			text = after
		}
		add(text, s.Origin)
	}
	if next < len(list) {
		left := list[c.unseen(list, next)]
		return out, exchange.InvalidParam(left.Image.At, "the model's template leaves out %s, a picture; put it into a user's turn", left.Origin)
	}
	if next > len(list) {
		return out, exchange.InvalidParam("messages", "the model's template writes %d pictures where the conversation has %d", next, len(list))
	}
	out.Text, out.Spans = written.String(), spans
	return out, nil
}

// unseen guesses which picture a template has left out: the first one that is in no user's turn, and else the first without a mark.
func (c *Conversation) unseen(list []Picture, marks int) int {
	at := 0
	for _, turn := range c.Turns {
		for _, p := range turn.Parts {
			if _, ok := p.(exchange.Image); ok {
				if turn.Role != exchange.User {
					return at
				}
				at++
			}
		}
	}
	return min(marks, len(list)-1)
}

// place finds the tokens that stand for pictures.
func (p *Prompt) place(tok *tokenizer.Tokenizer, m *vision.Marks, list []Picture) error {
	ids, err := tok.EncodeSpans(m.Token, func(int, int) bool { return true })
	if err != nil || len(ids) != 1 {
		return exchange.InvalidParam("model", "the model's tokenizer has no token %q, which stands for pictures", m.Token)
	}
	at := 0
	for i := range list {
		of, rows := &list[i], 0
		for ; at < len(p.Tokens) && p.Tokens[at].Start < of.End; at++ {
			if p.Tokens[at].Start < of.Start || p.Tokens[at].ID != ids[0].ID {
				continue
			}
			if n := len(of.Pieces); n > 0 && of.Pieces[n-1].At+of.Pieces[n-1].N == at {
				of.Pieces[n-1].N++
			} else {
				of.Pieces = append(of.Pieces, Piece{At: at, First: rows, N: 1})
			}
			rows++
		}
		if rows != of.Plan.Tokens() {
			return fmt.Errorf("prompt: %d tokens stand for a picture of %d", rows, of.Plan.Tokens())
		}
	}
	p.Pictures = list
	return nil
}
