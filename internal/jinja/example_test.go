package jinja_test

import (
	"fmt"

	"kindredgate/internal/jinja"
)

// Each piece of the output says where it comes from.
func ExampleTemplate_Render() {
	t, err := jinja.Parse(`{% for m in messages %}<{{ m.role }}>{{ m.content | trim }}
{% endfor %}`)
	if err != nil {
		fmt.Println(err)
		return
	}
	messages, err := jinja.FromJSON([]byte(`[{"role": "user", "content": " When is the last boat? "}]`), "messages", true)
	if err != nil {
		fmt.Println(err)
		return
	}
	out, err := t.Render(map[string]jinja.Value{"messages": messages})
	if err != nil {
		fmt.Println(err)
		return
	}
	from := 0
	for _, s := range out.Spans {
		origin := s.Origin.Path
		if origin == "" {
			origin = fmt.Sprintf("the template, line %d", s.Origin.Line)
		}
		fmt.Printf("%q is from %s\n", out.Text[from:s.End], origin)
		from = s.End
	}
	// Output:
	// "<" is from the template, line 1
	// "user" is from messages[0].role
	// ">" is from the template, line 1
	// "When is the last boat?" is from messages[0].content
	// "\n" is from the template, line 1
}
