// Package vision says what becomes of a picture before a model sees it: how large it is read, how many tokens that is, what is written
// in the place of the mark that a template leaves for it, and at which positions its tokens stand.
package vision

import (
	"context"
	"fmt"
	"image"
	"math"
	"strings"

	"kindredgate/internal/picture"
)

// Fit is how the size is found in which a picture is read.
type Fit int

// The ways.
const (
	Square  Fit = iota // Side × Side, whatever its shape
	Crop               // the shorter side becomes Side, and the square in the middle is taken
	Smart              // sides are multiples of Unit, with the product between Least and Most
	Longest            // the longer side is Side at the most, and sides are rounded up to multiples of Unit
)

// Rule is how a family prepares pictures.
type Rule struct {
	Fit    Fit
	Filter picture.Filter
	Mean   [3]float32 // of the channels, which are from 0 to 1
	Std    [3]float32

	Side        int // pixels, by Fit
	Patch       int // pixels of the side of a patch
	Merge       int // patches of the side of a square that becomes one token
	Least, Most int // pixels in all, of Smart; 0 for no bound

	Marks Marks
	// Places says that tokens of a picture stand at the place of their row and column, rather than one after the other.
	Places bool
}

// Marks are what stands in a prompt for a picture.
type Marks struct {
	Mark   string // what the template writes
	Before string
	Token  string // that stands for a row of the picture's vectors
	Break  string // between two lines of these
	After  string
}

// Plan is how a picture is read.
type Plan struct {
	Width, Height         int // pixels that are resized to
	ReadWidth, ReadHeight int // pixels that are seen, in the middle of these
	Rows, Columns         int // of tokens
}

// Tokens are those that stand for vectors.
func (p *Plan) Tokens() int { return p.Rows * p.Columns }

// unit is how many pixels of a side become one token.
func (r *Rule) unit() int { return r.Patch * r.Merge }

// Plan is how a picture of that size is read, as most tokens at the most, where the family leaves a choice; 0 for as many as it takes.
func (r *Rule) Plan(width, height, most int) (Plan, error) {
	if width < 1 || height < 1 {
		return Plan{}, fmt.Errorf("it is %d × %d pixels", width, height)
	}
	w, h := r.Side, r.Side
	var p Plan
	switch r.Fit {
	case Square:
	case Crop:
		short, long := min(width, height), max(width, height)
		p.Width, p.Height = r.Side, r.Side
		if other := int(float64(r.Side) * float64(long) / float64(short)); width < height {
			p.Height = other
		} else {
			p.Width = other
		}
	case Smart:
		limit := r.Most
		if most > 0 {
			limit = min(max(limit, r.Least), most*r.unit()*r.unit())
		}
		var err error
		if w, h, err = smart(width, height, r.unit(), min(r.Least, limit), limit); err != nil {
			return p, err
		}
	case Longest:
		w, h = longest(width, height, r.Side, r.unit())
		for side := r.Side; most > 0 && w/r.unit()*(h/r.unit()) > most && side > r.unit(); side -= r.unit() {
			w, h = longest(width, height, side, r.unit())
		}
	}
	if p.Width == 0 {
		p.Width, p.Height = w, h
	}
	p.ReadWidth, p.ReadHeight, p.Rows, p.Columns = w, h, h/r.unit(), w/r.unit()
	if p.Rows > MostTokens || p.Columns > MostTokens || p.Tokens() > MostTokens {
		return p, fmt.Errorf("it would be read as %d × %d tokens; %d together are possible", p.Columns, p.Rows, MostTokens)
	}
	return p, nil
}

// MostTokens is how many tokens a picture becomes at the most, whatever a model's files say.
const MostTokens = 1 << 17

// Tokens are the fewest and the most tokens that a picture becomes.
func (r *Rule) Tokens() (least, most int) {
	unit := max(1, r.unit())
	side := r.Side / unit
	switch r.Fit {
	case Square, Crop:
		return side * side, side * side
	case Longest:
		return 1, side * side
	case Smart:
	}
	return max(1, r.Least/(unit*unit)), r.Most / (unit * unit)
}

// maxShape is how many times as long as wide a picture may be.
const maxShape = 200

func tooLong(width, height int) error {
	return fmt.Errorf("it is %d × %d pixels; one side may be %d times the other at the most", width, height, maxShape)
}

// smart rounds both sides to multiples of unit, halves to even ones, and then keeps the product within bounds.
func smart(width, height, unit, least, most int) (w, h int, err error) {
	if max(width, height) > maxShape*min(width, height) {
		return 0, 0, tooLong(width, height)
	}
	u := float64(unit)
	near := func(n int) int { return int(math.RoundToEven(float64(n)/u)) * unit }
	w, h = near(width), near(height)
	switch area := float64(width) * float64(height); {
	case most > 0 && w*h > most:
		by := math.Sqrt(area / float64(most))
		down := func(n int) int { return max(unit, int(math.Floor(float64(n)/by/u))*unit) }
		w, h = down(width), down(height)
	case w*h < least:
		by := math.Sqrt(float64(least) / area)
		up := func(n int) int { return int(math.Ceil(float64(float64(n)*by)/u)) * unit }
		w, h = up(width), up(height)
	}
	return max(unit, w), max(unit, h), nil
}

// longest brings the longer side down to a length, and both up to multiples of unit.
func longest(width, height, side, unit int) (w, h int) {
	if by := float64(max(width, height)) / float64(side); by > 1 {
		width, height = max(1, int(math.Floor(float64(width)/by))), max(1, int(math.Floor(float64(height)/by)))
	}
	up := func(n int) int { return ((n-1)/unit + 1) * unit }
	return up(width), up(height)
}

// Prepare makes the pixels that are seen, [ReadHeight][ReadWidth][3].
func (r *Rule) Prepare(ctx context.Context, p *picture.Pixels, plan Plan) ([]byte, error) {
	left, top := (plan.Width-plan.ReadWidth)/2, (plan.Height-plan.ReadHeight)/2
	return p.Resize(ctx, plan.Width, plan.Height, image.Rect(left, top, left+plan.ReadWidth, top+plan.ReadHeight), r.Filter)
}

// Written is what stands in a prompt for a picture.
func (m *Marks) Written(p Plan) string {
	if m.Break == "" {
		return m.Before + strings.Repeat(m.Token, p.Tokens()) + m.After
	}
	line := strings.Repeat(m.Token, p.Columns)
	return m.Before + line + strings.Repeat(m.Break+line, p.Rows-1) + m.After
}

// All is how many tokens stand for a picture, breaks and an end of one token each included, but not what stands around it.
func (m *Marks) All(p Plan) int {
	n := p.Tokens()
	if m.Break != "" {
		n += p.Rows - 1
	}
	return n
}

// Saved is by how many positions a picture is shorter than its tokens.
func (r *Rule) Saved(p Plan) int {
	if !r.Places {
		return 0
	}
	return p.Tokens() - max(p.Rows, p.Columns)
}
