package difference

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestDifferences(t *testing.T) {
	for _, c := range []struct {
		left, right, want, parted string
		alike                     float64
	}{
		{"", "", "", "", 1},
		{"the boat leaves", "the boat leaves", "the boat leaves", "", 1},
		{"the boat leaves at six", "the boat leaves at seven", "the boat leaves at[- six][+ seven]", "six | seven", 0.8},
		{"the first boat", "the boat", "the[- first] boat", "first | (nothing)", 2. / 3},
		{"a b c d", "x b y d", "[-a][+x] b[- c][+ y] d", "a | x", 0.5},
		{"one", "", "[-one]", "one | (nothing)", 0},
		{"a  b\n", "a b\n", "a[-  b][+ b]\n", "b | b", 2. / 3},
	} {
		d := Words(c.left, c.right)
		var b strings.Builder
		for _, r := range d {
			fmt.Fprintf(&b, map[Kind]string{Both: "%s", Left: "[-%s]", Right: "[+%s]"}[r.Kind], r.Text)
		}
		if b.String() != c.want || d.Parted() != c.parted || d.Alike() != c.alike || d.Same() != (c.left == c.right) {
			t.Errorf("%q and %q: %s, alike %g, parted at %q; want %s, %g, %q", c.left, c.right, b.String(), d.Alike(), d.Parted(), c.want, c.alike, c.parted)
		}
	}
}

// Whatever the texts are, either comes back whole from what they differ in, and no way is longer than taking one out and the other in.
func TestNothingIsLost(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	text := func(n int) string {
		var b strings.Builder
		for range r.IntN(n) {
			b.WriteString([]string{"quay ", "boat ", "tide\n", "", " "}[r.IntN(5)])
		}
		return b.String()
	}
	for range 500 {
		check(t, text(60), text(60))
	}
	check(t, strings.Repeat("a b ", 3000), strings.Repeat("a c ", 3000)) // beyond what is compared
	check(t, strings.Repeat("a ", 900), strings.Repeat("b ", 900))       // beyond the edits that are tried
}

func check(t *testing.T, left, right string) {
	t.Helper()
	sides := map[Kind]string{}
	for _, run := range Words(left, right) {
		if run.Kind == Both {
			sides[Left] += run.Text
			sides[Right] += run.Text
		} else {
			sides[run.Kind] += run.Text
		}
	}
	if sides[Left] != left || sides[Right] != right {
		t.Fatalf("%.60q and %.60q came back as %.60q and %.60q", left, right, sides[Left], sides[Right])
	}
}

func FuzzWords(f *testing.F) {
	f.Add("the boat leaves", "the boat stays")
	f.Fuzz(func(t *testing.T, left, right string) { check(t, left, right) })
}
