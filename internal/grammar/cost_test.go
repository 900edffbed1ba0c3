package grammar

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// costly are schemas that take much to compile, or would.
func costly() map[string]string {
	var properties, references, defs, nested, choices, patterns, texts, named []string
	for i := range 3000 {
		properties = append(properties, fmt.Sprintf(`"property_%d":{"type":"string"}`, i))
	}
	for i := range 1000 {
		references = append(references, fmt.Sprintf(`"p%d":{"$ref":"#/$defs/d%d"}`, i, i))
		defs = append(defs, fmt.Sprintf(`"d%d":{"type":"object","properties":{"a":{"type":"integer","minimum":%d}},"required":["a"]}`, i, i))
		for range 40 {
			texts = append(texts, fmt.Sprintf(`"text %d"`, len(texts)))
		}
		if i < 150 {
			choices = append(choices, fmt.Sprintf(`{"not":{"properties":{"a%d":{"const":%d}},"required":["a%d"]}}`, i, i, i))
			patterns = append(patterns, fmt.Sprintf(`"x%d":{"type":"string","pattern":"^(a|b)*a(a|b){9}%d$"}`, i, i))
		}
		nested = append(nested, fmt.Sprintf(`"d%d":{"anyOf":[{"$ref":"#/$defs/d%d"},{"$ref":"#/$defs/d%d"}]}`, i, (i*7+1)%1000, (i*13+2)%1000))
	}
	const object = `{"type":"object","properties":{`
	wide := object + strings.Join(properties, ",") + `},"required":[` + strings.ReplaceAll(strings.Join(texts[:3000], ","), "text ", "property_") + `]}`
	for i := range 3000 {
		named = append(named, fmt.Sprintf(`"r%d":{"$id":"r%d","$dynamicAnchor":"a%d","$ref":"r%d"}`, i, i, i, (i+1)%3000))
	}
	return map[string]string{
		"3,000 identifiers":      `{"$ref":"r0","$defs":{` + strings.Join(named, ",") + `}}`,
		"3,000 properties":       object + strings.Join(properties, ",") + `}}`,
		"3,000, closed":          object + strings.Join(properties, ",") + `},"additionalProperties":false}`,
		"1,000 references":       object + strings.Join(references, ",") + `},"$defs":{` + strings.Join(defs, ",") + `}}`,
		"references in circles":  `{"$ref":"#/$defs/d0","$defs":{` + strings.Join(nested, ",") + `}}`,
		"a pattern of 1.8 KB":    `{"type":"string","pattern":"` + strings.Repeat(`(a|b|[c-f])*x?`, 128) + `"}`,
		"a pattern of classes":   `{"type":"string","pattern":"` + strings.Repeat(`[^a-z]?.?[à-ÿ]*`, 80) + `"}`,
		"many patterns":          object + strings.Join(patterns, ",") + `}}`,
		"exclusions":             `{"type":"object","allOf":[` + strings.Join(choices, ",") + `]}`,
		"exclusive options":      `{"oneOf":[` + strings.Join(choices, ",") + `]}`,
		"exclusive objects":      `{"oneOf":[` + wide + `,` + wide + `]}`,
		"lists within lists":     strings.Repeat(`{"type":"array","maxItems":10000,"items":`, 30) + `{}` + strings.Repeat(`}`, 30),
		"counted properties":     object + strings.Join(properties[:900], ",") + `},"minProperties":800}`,
		"an enum of 60,000":      `{"enum":[` + strings.TrimSuffix(strings.Repeat(`[1,2,{"a":3}],`, 60_000), ",") + `],"not":{"contains":{"const":4}}}`,
		"an enum of texts":       `{"enum":[` + strings.Join(texts, ",") + `]}`,
		"a list of texts":        `{"const":[` + strings.Join(texts, ",") + `],"uniqueItems":true}`,
		"a multiple with bounds": `{"type":"number","multipleOf":0.001999,"minimum":0.123456789012345,"maximum":987654321012.123456}`,
		"names by patterns":      `{"patternProperties":{"^a.*b.*c":{},"d.*e$":{},"^.{3,200}$":{},"[0-9]{40}":{}},"propertyNames":{"pattern":"^[a-z0-9]*$"}}`,
	}
}

// Whatever a schema asks, compiling it keeps to its work, and its memory: it either is compiled or refused as too much.
func TestSchemasKeepToTheirWork(t *testing.T) {
	v := letters()
	fits := []string{"3,000 properties", "3,000, closed", "1,000 references", "a pattern of classes", "a pattern of 1.8 KB", "an enum of texts", "a list of texts"}
	const steps, space = "too much work", "too large together"
	tooMuch := map[string]string{"many patterns": steps, "3,000 identifiers": steps, "an enum of 60,000": steps, "lists within lists": space, "counted properties": space}
	for name, source := range costly() {
		w := work()
		s, err := Compile(w, []byte(source))
		var g *Grammar
		if err == nil {
			g, err = New(w, v, s.Value())
		}
		var refused *SchemaError
		switch {
		case err != nil && !errors.As(err, &refused):
			t.Errorf("%s: %v", name, err)
		case err == nil && g.Bytes() > maxBytes:
			t.Errorf("%s: %d bytes are kept", name, g.Bytes())
		case (err == nil) != slices.Contains(fits, name), errors.Is(err, ErrWork) != (tooMuch[name] != ""), err != nil && !strings.Contains(err.Error(), tooMuch[name]):
			t.Errorf("%s: %v", name, err)
		}
		t.Logf("%-24s %6.1f million steps, %5.1f MB: %v", name, float64(maxSteps-w.steps)/1e6, float64(maxBytes-w.bytes)/1e6, err)
	}
}

// Work ends when whoever asked for it has left.
func TestWorkEndsWithItsContext(t *testing.T) {
	ctx, leave := context.WithCancelCause(t.Context())
	left := errors.New("the client left")
	leave(left)
	source := costly()["3,000 properties"]
	w := NewWork(ctx)
	if _, err := Compile(w, []byte(source)); !errors.Is(err, left) {
		t.Errorf("%v", err)
	}
	if used := maxSteps - w.steps; used > 2*len(source)+2*lookEvery {
		t.Errorf("%d steps were taken for nobody", used)
	}
}

func BenchmarkCostly(b *testing.B) {
	for name, source := range costly() {
		b.Run(strings.ReplaceAll(name, " ", "-"), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				w := work()
				_, _ = Compile(w, []byte(source)) // refused or not
				b.ReportMetric(float64(maxSteps-w.steps)/1e6, "Msteps")
			}
		})
	}
}

// Each bound of a schema is met at its edge, and says so beyond it.
func TestBoundsOfSchemas(t *testing.T) {
	list := func(n int, one func(i int) string) string {
		parts := make([]string, n)
		for i := range parts {
			parts[i] = one(i)
		}
		return strings.Join(parts, ",")
	}
	contains := func(n int) string {
		return `{"type":"array","maxItems":4,"allOf":[` + list(n, func(i int) string { return fmt.Sprintf(`{"contains":{"const":%d}}`, i) }) + `]}`
	}
	rules := func(n int) string {
		return `{"type":"object","properties":{` + list(n, func(i int) string {
			return fmt.Sprintf(`"p%d":{"type":"array","maxItems":1,"items":{"enum":[%d,null]}}`, i, i)
		}) + `}}`
	}
	for _, c := range []struct{ fits, beyond, says string }{
		{contains(maxContaining), contains(maxContaining + 1), "has to contain"},
		{`{"enum":[` + list(1000, func(i int) string { return fmt.Sprint(i) }) + `]}`, `{"enum":[` + list(maxWords+1, func(i int) string { return fmt.Sprint(i) }) + `]}`, fmt.Sprintf("enum has more than %d values", maxWords)},
		{rules(100), rules(maxRules), fmt.Sprintf("more than %d different values", maxRules)},
	} {
		if _, err := Compile(work(), []byte(c.fits)); err != nil {
			t.Errorf("%.100s: %v", c.fits, err)
		}
		w := work()
		w.steps, w.bytes = 1<<40, 1<<40 // the bound itself is what is tried
		if _, err := Compile(w, []byte(c.beyond)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%.100s: %v, want %q", c.beyond, err, c.says)
		}
	}
}
