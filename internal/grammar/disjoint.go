package grammar

import (
	"fmt"
	"math/big"
	"slices"
)

// maxDepth bounds how deep schemas are compared.
const maxDepth = 4

// checkDisjoint refuses the options of a oneOf of which two may match one value: exactly one has to.
func (c *compiler) checkDisjoint(options []*schema) error {
	for i, a := range options {
		for j := i + 1; j < len(options); j++ {
			ok, err := c.disjoint([]*schema{a}, []*schema{options[j]}, maxDepth)
			if err != nil {
				return err
			}
			if !ok {
				return &SchemaError{Path: a.path, Keyword: "oneOf", Message: fmt.Sprintf(
					"oneOf has options %d and %d that may both match; give them different types, or a required property with different constants, or use anyOf", i, j)}
			}
		}
	}
	return nil
}

// disjoint reports whether it is plain that no value meets both lists.
func (c *compiler) disjoint(a, b []*schema, depth int) (bool, error) {
	if depth == 0 {
		return false, nil
	}
	left, err := c.branches(a)
	if err != nil {
		return false, err
	}
	right, err := c.branches(b)
	if err != nil {
		return false, err
	}
	for _, x := range left {
		for _, y := range right {
			ok, err := c.apart(x, y, depth)
			if !ok || err != nil {
				return false, err
			}
		}
	}
	return true, nil
}

func (c *compiler) apart(x, y *branch, depth int) (bool, error) {
	if x.values != nil || y.values != nil {
		values, other := x.values, y
		if values == nil {
			values, other = y.values, x
		}
		for _, v := range values {
			if other.values != nil && !slices.Contains(other.values, v) {
				continue
			}
			ok, err := other.admits(v)
			if ok || err != nil {
				return false, nil // a value that cannot be told apart may match both
			}
		}
		return true, nil
	}
	shared := x.types & y.types
	if shared&(typeNull|typeBoolean|typeArray) != 0 {
		return false, nil
	}
	if shared&typeString != 0 && (x.maxLength < 0 || x.maxLength >= y.minLength) && (y.maxLength < 0 || y.maxLength >= x.minLength) {
		return false, nil
	}
	if shared&(typeInteger|typeFraction) != 0 && !above(x.low, y.high) && !above(y.low, x.high) {
		return false, nil
	}
	if shared&typeObject != 0 {
		return c.objectsApart(x, y, depth)
	}
	return true, nil
}

// above reports whether everything from low up is beyond high.
func above(low, high bound) bool {
	if low.value == nil || high.value == nil {
		return false
	}
	d := low.value.Cmp(high.value)
	return d > 0 || d == 0 && (low.strict || high.strict)
}

// inBounds reports whether a number is between two bounds.
func inBounds(r *big.Rat, low, high bound) bool {
	at := bound{value: r}
	return !above(at, high) && !above(low, at)
}

// objectsApart looks for a property that one of two must have and whose values differ, or that the other cannot have.
func (c *compiler) objectsApart(x, y *branch, depth int) (bool, error) {
	conditions := func(b *branch, name string) (list []*schema, required bool) {
		for _, s := range b.objects {
			required = required || slices.Contains(s.required, name)
			if i := slices.IndexFunc(s.properties, func(p property) bool { return p.name == name }); i >= 0 {
				list = append(list, s.properties[i].schema)
			} else if s.additional != nil {
				list = append(list, s.additional)
			}
		}
		return list, required
	}
	for _, b := range []*branch{x, y} {
		for _, s := range b.objects {
			for _, name := range s.required {
				left, must := conditions(x, name)
				right, mustToo := conditions(y, name)
				if !must || !mustToo {
					// One may lack it; then it tells them apart only if that one cannot have it.
					other := right
					if !must {
						other = left
					}
					if c.empty(other) {
						return true, nil
					}
					continue
				}
				if ok, err := c.disjoint(left, right, depth-1); ok || err != nil {
					return ok, err
				}
			}
		}
	}
	return false, nil
}
