package grammar

import (
	"fmt"
	"math/big"
	"slices"
)

// maxDepth bounds how deep schemas are compared.
const maxDepth = 4

// keepApart makes sure that exactly one option of a oneOf matches: no two of them can match, or each is made to exclude the others.
func (c *compiler) keepApart(one *choice) error {
	for i, a := range one.options {
		for j := i + 1; j < len(one.options); j++ {
			ok, err := c.disjoint([]*schema{a}, []*schema{one.options[j]}, maxDepth)
			if err != nil {
				return err
			}
			if ok {
				continue
			}
			refused := &SchemaError{Path: a.path, Keyword: "oneOf", Message: fmt.Sprintf(
				"oneOf has options %d and %d that may both match; give them different types, or a required property with different constants, or use anyOf", i, j)}
			exclusive, err := c.exclusive(one.options)
			if unwrapWork(err) != nil {
				return err
			}
			if err == nil {
				one.options = exclusive
			} else if err := c.doc.left(refused); err != nil {
				return err
			}
			one.apart = true
			return nil
		}
	}
	one.apart = true
	return nil
}

// exclusive are the options each of which excludes the others.
func (c *compiler) exclusive(options []*schema) (list []*schema, err error) {
	opposites := make([]*schema, len(options))
	for i, o := range options {
		if opposites[i], err = c.doc.not(o); err != nil {
			return nil, err
		}
	}
	for i, o := range options {
		others := slices.Delete(slices.Clone(opposites), i, i+1)
		list = append(list, both(o.path, append([]*schema{o}, others...)...))
	}
	return list, nil
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
		in := among(other.values)
		for _, v := range values {
			if other.values != nil && !in(v) {
				continue
			}
			if ok, err := c.meetsAll(other.all, v); ok || err != nil {
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
	conditions := func(b *branch, name string) (list []*schema) {
		for _, s := range b.objects {
			one, _ := c.conditionsOf(s, name)
			list = append(list, one...)
		}
		return list
	}
	required := func(b *branch) (names []string) {
		for _, s := range b.objects {
			names = append(names, s.required...)
		}
		return names
	}
	musts := map[*branch]func(string) bool{x: among(required(x)), y: among(required(y))}
	for _, b := range []*branch{x, y} {
		for _, s := range b.objects {
			for _, name := range s.required {
				left, right := conditions(x, name), conditions(y, name)
				if err := c.work.spend(10 + len(name)); err != nil {
					return false, err
				}
				if !musts[x](name) || !musts[y](name) {
					// One may lack it; then it tells them apart only if that one cannot have it.
					other := right
					if !musts[x](name) {
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
