package jinja

import (
	"math"
	"math/big"
)

// Integers have no bounds in the reference; here those beyond 64 bits are *big.Int, and those within are int64 always.

// maxBits bounds the size of an integer.
const maxBits = 1 << 14

// whole is an integer in its usual form.
func (e *evaluator) wholeOf(i *big.Int) Value {
	if i.IsInt64() {
		return i.Int64()
	}
	if i.BitLen() > maxBits {
		e.fail("a number has more than %d bits", maxBits)
	}
	e.work(i.BitLen() / 512)
	return i
}

// parseInteger reads an integer as it is written in a template. A leading zero means nothing.
func parseInteger(s string) (Value, bool) {
	if len(s) > maxBits/4 {
		return nil, false
	}
	i, ok := new(big.Int).SetString(s, 0)
	if !ok || len(s) > 1 && s[0] == '0' && s[1] >= '0' && s[1] <= '9' {
		i, ok = new(big.Int).SetString(s, 10)
	}
	if !ok {
		return nil, false
	}
	if i.IsInt64() {
		return i.Int64(), true
	}
	return i, true
}

// wholeNumber gives an integer of any size; booleans count.
func wholeNumber(v Value) (*big.Int, bool) {
	if i, ok := integer(v); ok {
		return big.NewInt(i), true
	}
	i, ok := bare(v).(*big.Int)
	return i, ok
}

// integers computes with integers of any size.
func (e *evaluator) integers(op string, x, y *big.Int) Value {
	if y.Sign() == 0 && (op == "/" || op == "//" || op == "%") {
		e.fail("division by zero")
	}
	r := new(big.Int)
	switch op {
	case "+":
		return e.wholeOf(r.Add(x, y))
	case "-":
		return e.wholeOf(r.Sub(x, y))
	case "*":
		return e.wholeOf(r.Mul(x, y))
	case "/":
		f, _ := new(big.Rat).SetFrac(x, y).Float64()
		if math.IsInf(f, 0) {
			e.fail("the quotient is too large for a float")
		}
		return f
	case "//", "%":
		m := new(big.Int)
		r.QuoRem(x, y, m)
		if m.Sign() != 0 && m.Sign() != y.Sign() { // round down, not towards zero
			r.Sub(r, big.NewInt(1))
			m.Add(m, y)
		}
		if op == "%" {
			return e.wholeOf(m)
		}
		return e.wholeOf(r)
	}
	if y.Sign() < 0 {
		return e.power(toFloat(x), toFloat(y))
	}
	if x.BitLen() > 1 && (!y.IsInt64() || y.Int64() > maxBits || int64(x.BitLen()-1)*y.Int64() > maxBits) {
		e.fail("a number has more than %d bits", maxBits)
	}
	if !y.IsInt64() { // 0, 1 or -1, by whether the exponent is even
		y = new(big.Int).And(y, big.NewInt(1))
		y.Add(y, big.NewInt(2))
	}
	return e.wholeOf(r.Exp(x, y, nil))
}

// power is x to the power of y, where the result is a finite number.
func (e *evaluator) power(x, y float64) Value {
	f := math.Pow(x, y)
	switch {
	case x == 0 && y < 0:
		e.fail("0 cannot have a negative power")
	case math.IsNaN(f) && !math.IsNaN(x) && !math.IsNaN(y):
		e.fail("a fraction as the power of a negative number has no result here")
	case math.IsInf(f, 0) && !math.IsInf(x, 0) && !math.IsInf(y, 0):
		e.fail("the result is too large for a float")
	}
	return f
}

func toFloat(i *big.Int) float64 {
	f, _ := new(big.Float).SetInt(i).Float64()
	return f
}

// truncated is a number without its fraction.
func truncated(f float64) (*big.Int, bool) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return nil, false
	}
	i, _ := new(big.Float).SetFloat64(f).Int(nil)
	return i, true
}
