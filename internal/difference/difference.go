// Package difference tells where two texts differ, word by word.
package difference

import (
	"slices"
	"strings"
	"unicode"
)

// Kind says whose a run of words is.
type Kind string

// The kinds.
const (
	Both  Kind = "both"
	Left  Kind = "left"
	Right Kind = "right"
)

// Run is words, with the spaces around them, that both texts have or one.
type Run struct {
	Kind Kind   `json:"kind"`
	Text string `json:"text"`
}

// Difference is how two texts differ: the runs of the left one in their order, and of the right one.
type Difference []Run

// mostWords bounds what is compared word by word. Of longer texts the beginnings are, and the rest counts as different.
const mostWords = 4000

// mostEdits bounds the work: texts that differ in more than so many words share only what they begin and end with.
const mostEdits = 600

// Words compares two texts by the shortest way from one to the other (Myers 1986).
func Words(left, right string) Difference {
	a, b := words(left), words(right)
	var restA, restB string
	if len(a) > mostWords {
		restA, a = strings.Join(a[mostWords:], ""), a[:mostWords]
	}
	if len(b) > mostWords {
		restB, b = strings.Join(b[mostWords:], ""), b[:mostWords]
	}
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	var d Difference
	d.add(Both, strings.Join(a[:head], ""))
	d.between(a[head:len(a)-tail], b[head:len(b)-tail])
	d.add(Both, strings.Join(a[len(a)-tail:], ""))
	d.add(Left, restA)
	d.add(Right, restB)
	return d
}

// words cuts a text into words, each with the space before it.
func words(text string) (list []string) {
	begin, inWord := 0, false
	for i, r := range text {
		space := unicode.IsSpace(r)
		if inWord && space {
			list = append(list, text[begin:i])
			begin = i
		}
		inWord = !space
	}
	if begin < len(text) {
		list = append(list, text[begin:])
	}
	return list
}

func (d *Difference) add(k Kind, text string) {
	if text == "" {
		return
	}
	if n := len(*d); n > 0 && (*d)[n-1].Kind == k {
		(*d)[n-1].Text += text
		return
	}
	*d = append(*d, Run{k, text})
}

// between adds what two lists of words come to, whose beginnings and ends differ.
func (d *Difference) between(a, b []string) {
	path := edits(a, b)
	if path == nil {
		d.add(Left, strings.Join(a, ""))
		d.add(Right, strings.Join(b, ""))
		return
	}
	x, y := 0, 0
	for _, step := range path {
		switch dx, dy := step.x-x, step.y-y; {
		case dx > dy:
			d.add(Left, a[x])
			x++
		case dx < dy:
			d.add(Right, b[y])
			y++
		}
		for x < step.x {
			d.add(Both, a[x])
			x, y = x+1, y+1
		}
	}
}

// point is how far two lists have been gone through.
type point struct{ x, y int }

// reach is how far the ways with so many edits have come in the first list, by their diagonal k from -(d+1) to d+1.
type reach []int

func (r reach) at(k int) *int { return &r[k+len(r)/2] }

// before is the diagonal from which a way with d edits comes to diagonal k.
func (r reach) before(d, k int) int {
	if k == -d || k != d && *r.at(k - 1) < *r.at(k + 1) {
		return k + 1
	}
	return k - 1
}

// edits is the shortest way through both lists: the points that it reaches after each edit; nil if it has too many.
func edits(a, b []string) []point {
	most := min(len(a)+len(b), mostEdits)
	now := reach{0, 0, 0}
	var history []reach
	for d := 0; d <= most; d++ {
		history = append(history, now)
		next := make(reach, len(now)+2)
		copy(next[1:], now)
		for k := -d; k <= d; k += 2 {
			from := now.before(d, k)
			x := *now.at(from)
			if from < k {
				x++
			}
			for x < len(a) && x-k < len(b) && a[x] == b[x-k] {
				x++
			}
			*next.at(k) = x
			if x == len(a) && x-k == len(b) {
				return back(history, len(a), len(b))
			}
		}
		now = next
	}
	return nil
}

// back follows the way from its end.
func back(history []reach, x, y int) []point {
	path := []point{{x, y}}
	for d := len(history) - 1; d > 0; d-- {
		k := history[d].before(d, x-y)
		x = *history[d].at(k)
		y = x - k
		path = append(path, point{x, y})
	}
	slices.Reverse(path)
	return path
}

// Same reports whether the texts are the same.
func (d Difference) Same() bool {
	for _, r := range d {
		if r.Kind != Both {
			return false
		}
	}
	return true
}

// Alike is the share of words in common, of those of the longer text; 1 for two empty ones.
func (d Difference) Alike() float64 {
	counts := map[Kind]int{}
	for _, r := range d {
		counts[r.Kind] += len(words(r.Text))
	}
	all := counts[Both] + max(counts[Left], counts[Right])
	if all == 0 {
		return 1
	}
	return float64(counts[Both]) / float64(all)
}

// shownWords is how many words are shown of where texts part.
const shownWords = 6

// Parted is the first place where the texts differ, a few words of each; "" if they do not.
func (d Difference) Parted() string {
	for i, r := range d {
		if r.Kind == Both {
			continue
		}
		sides := map[Kind]string{r.Kind: r.Text}
		if i+1 < len(d) && d[i+1].Kind != Both {
			sides[d[i+1].Kind] = d[i+1].Text
		}
		return first(sides[Left]) + " | " + first(sides[Right])
	}
	return ""
}

func first(text string) string {
	list := strings.Fields(text)
	if len(list) > shownWords {
		list = append(list[:shownWords:shownWords], "…")
	}
	if len(list) == 0 {
		return "(nothing)"
	}
	return strings.Join(list, " ")
}
