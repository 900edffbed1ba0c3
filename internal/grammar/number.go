package grammar

import (
	"cmp"
	"fmt"
	"math/big"
	"strings"
)

// Digits of a number that has no bounds: what a float64 holds exactly.
const freeDigits = 15

// magnitude is a bound without its sign, as digits.
type magnitude struct {
	whole, fraction string
	strict          bool
	none            bool
}

func magnitudeOf(b bound) magnitude {
	if b.value == nil {
		return magnitude{none: true}
	}
	whole, fraction, _ := strings.Cut(decimal(new(big.Rat).Abs(b.value)), ".")
	return magnitude{whole: whole, fraction: fraction, strict: b.strict}
}

const numberBytes = "+-.0123456789Ee"

// numberState is how far a number has come.
type numberState struct {
	place    int8 // one of the places below
	negative bool
	zero     bool  // the whole part is 0, which no digit may follow
	digits   uint8 // of the part under way
	low      int8  // how the digits so far compare with those of the lower bound of the magnitude
	high     int8  // and of the upper one
	rest     int32 // of the digits so far, divided by what the number is a multiple of
	broken   bool  // a digit behind the point is not 0, where that has to be known
}

// numberForm is what a number has to be.
type numberForm struct {
	low, high bound
	multiple  *big.Rat // nil for none
	whole     bool     // written without a point
	broken    bool     // not whole
}

// maxDivisor bounds the digits of what a number can be made a multiple of.
const maxDivisor = 2000

// divisor is a number times 10 to the power of shift, as a whole number.
func divisor(r *big.Rat) (n, shift int, err error) {
	if r == nil {
		return 1, 0, nil
	}
	scaled := new(big.Rat).Set(r)
	for ; !scaled.IsInt(); shift++ {
		if shift == freeDigits {
			return 0, 0, fmt.Errorf("multipleOf has too many digits behind the point to be enforced")
		}
		scaled.Mul(scaled, big.NewRat(10, 1))
	}
	if !scaled.Num().IsInt64() || scaled.Num().Int64() > maxDivisor {
		return 0, 0, fmt.Errorf("multipleOf is %s; its digits may make %d at the most", decimal(r), maxDivisor)
	}
	return int(scaled.Num().Int64()), shift, nil
}

// commonMultiple is the least number that is a multiple of both; nil stands for any.
func commonMultiple(a, b *big.Rat) *big.Rat {
	if a == nil || b == nil || a == b {
		return cmp.Or(a, b)
	}
	// Over one denominator, it is that of the numerators.
	x, y := new(big.Int).Mul(a.Num(), b.Denom()), new(big.Int).Mul(b.Num(), a.Denom())
	n := new(big.Int).Div(new(big.Int).Mul(x, y), new(big.Int).GCD(nil, nil, x, y))
	return new(big.Rat).SetFrac(n, new(big.Int).Mul(a.Denom(), b.Denom()))
}

const (
	numberBegin = iota
	numberMinus
	numberWhole
	numberPoint
	numberFraction
)

// newNumber is the numbers of a form, written without exponents; nil if there are none.
func newNumber(w *Work, f numberForm) (*dfa, error) {
	low, high, whole := f.low, f.high, f.whole
	by, shift, err := divisor(f.multiple)
	if err != nil {
		return nil, err
	}
	whole = whole || f.multiple != nil && shift == 0
	zero := bound{value: new(big.Rat)}
	// The bounds of the magnitude, for numbers from 0 up and for those below it.
	type span struct {
		low, high magnitude
		possible  bool
	}
	up := span{magnitudeOf(higher(low, zero)), magnitudeOf(high), high.value == nil || high.value.Sign() >= 0}
	below := lower(high, bound{new(big.Rat), true})
	down := span{magnitudeOf(below), magnitudeOf(low), low.value == nil || low.value.Sign() < 0}
	wholeDigits := func(s span) int {
		if s.high.none {
			return max(freeDigits, len(s.low.whole)+1)
		}
		return len(s.high.whole)
	}
	fractionDigits := func(s span) int {
		if f.multiple != nil {
			return shift
		}
		return max(freeDigits, len(s.low.fraction)+1, len(s.high.fraction)+1)
	}
	of := func(s numberState) span {
		if s.negative {
			return down
		}
		return up
	}
	// compare goes on comparing with a digit of a bound.
	compare := func(so int8, m magnitude, digits string, at int, b byte) int8 {
		if m.none {
			return 0
		}
		other := byte('0')
		if at < len(digits) {
			other = digits[at]
		}
		switch {
		case so != 0 || b == other:
			return so
		case b < other:
			return -1
		}
		return 1
	}
	// settled compares whole parts: the longer is the larger.
	settled := func(so int8, digits uint8, whole string) int8 {
		switch n := int(digits); {
		case n < len(whole):
			return -1
		case n > len(whole):
			return 1
		}
		return so
	}
	step := func(s numberState, b byte) (numberState, bool) {
		bounds := of(s)
		digit := '0' <= b && b <= '9'
		switch {
		case s.place == numberBegin && b == '-':
			return numberState{place: numberMinus, negative: true}, down.possible
		case s.place <= numberWhole && digit:
			if s.place == numberBegin && !up.possible || s.zero || int(s.digits) >= wholeDigits(bounds) {
				return s, false
			}
			s.low = compare(s.low, bounds.low, bounds.low.whole, int(s.digits), b)
			s.high = compare(s.high, bounds.high, bounds.high.whole, int(s.digits), b)
			s.zero = b == '0' && s.digits == 0
			s.rest = (s.rest*10 + int32(b-'0')) % int32(by)
			s.place = numberWhole
			s.digits++
			return s, true
		case s.place == numberWhole && b == '.' && !whole:
			s.low, s.high = settled(s.low, s.digits, bounds.low.whole), settled(s.high, s.digits, bounds.high.whole)
			s.place, s.digits = numberPoint, 0
			return s, true
		case s.place >= numberPoint && digit:
			if int(s.digits) >= fractionDigits(bounds) {
				return s, false
			}
			s.low = compare(s.low, bounds.low, bounds.low.fraction, int(s.digits), b)
			s.high = compare(s.high, bounds.high, bounds.high.fraction, int(s.digits), b)
			s.place = numberFraction
			s.rest = (s.rest*10 + int32(b-'0')) % int32(by)
			s.broken = f.broken && (s.broken || b != '0')
			s.digits++
			return s, true
		}
		return s, false
	}
	outcome := func(s numberState) int {
		bounds := of(s)
		// ended compares the whole number, now that no digits follow.
		ended := func(so int8, m magnitude) int8 {
			at := 0
			if s.place == numberWhole {
				so = settled(so, s.digits, m.whole)
			} else {
				at = int(s.digits)
			}
			if so == 0 && strings.Trim(m.fraction[min(at, len(m.fraction)):], "0") != "" {
				return -1
			}
			return so
		}
		if s.place != numberWhole && s.place != numberFraction || f.broken && !s.broken {
			return -1
		}
		rest, missing := int(s.rest), shift
		if s.place == numberFraction {
			missing -= int(s.digits)
		}
		for range missing {
			rest = rest * 10 % by
		}
		if rest != 0 {
			return -1
		}
		if c := ended(s.low, bounds.low); c < 0 || c == 0 && bounds.low.strict {
			return -1
		}
		if c := ended(s.high, bounds.high); !bounds.high.none && (c > 0 || c == 0 && bounds.high.strict) {
			return -1
		}
		return 0
	}
	d, ok, err := explore(w, numberState{}, numberBytes, dead, step, outcome)
	if !ok && err == nil {
		err = fmt.Errorf("multipleOf with these bounds makes too many cases to be enforced")
	}
	return d, err
}

// looseNumber is any number of JSON that a float64 can hold, with an exponent too.
var looseNumber = func() *dfa {
	const exponent, sign, first, second = 100, 101, 102, 103
	step := func(s numberState, b byte) (numberState, bool) {
		switch digit := '0' <= b && b <= '9'; {
		case s.place == numberBegin && b == '-':
			return numberState{place: numberMinus}, true
		case s.place <= numberWhole && digit:
			return numberState{place: numberWhole, zero: b == '0' && s.digits == 0, digits: s.digits + 1}, !s.zero && s.digits < freeDigits
		case s.place == numberWhole && b == '.':
			return numberState{place: numberPoint}, true
		case (s.place == numberPoint || s.place == numberFraction) && digit:
			return numberState{place: numberFraction, digits: s.digits + 1}, s.digits < freeDigits
		case (s.place == numberWhole || s.place == numberFraction) && (b == 'e' || b == 'E'):
			return numberState{place: exponent}, true
		case s.place == exponent && (b == '+' || b == '-'):
			return numberState{place: sign}, true
		case (s.place == exponent || s.place == sign) && digit:
			return numberState{place: first}, true
		case s.place == first && digit:
			return numberState{place: second}, true
		}
		return s, false
	}
	d, _, _ := explore(nil, numberState{}, numberBytes, dead, step, func(s numberState) int {
		if s.place == numberWhole || s.place == numberFraction || s.place >= first {
			return 0
		}
		return -1
	})
	return d
}()
