package wire

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
)

func parse(t *testing.T, body string) *field.Object {
	t.Helper()
	o, err := field.Parse([]byte(body))
	if err != nil {
		t.Fatal(err)
	}
	return o
}

func self(o *field.Object) *field.Object { return o }

// What is beyond a bound is refused with the field's name; what is at it is not.
func TestBounds(t *testing.T) {
	many := func(n int, one string) string { return "[" + strings.TrimSuffix(strings.Repeat(one+",", n), ",") + "]" }
	bias := func(n int) string {
		var list []string
		for i := range n {
			list = append(list, fmt.Sprintf(`"%d":1`, i))
		}
		return "{" + strings.Join(list, ",") + "}"
	}
	tool := `{"type":"function","name":"departures"}`
	for _, c := range []struct {
		name, fits, beyond string
		read               func(o *field.Object)
	}{
		{"stop", many(maxStops, `"x"`), many(maxStops+1, `"x"`), func(o *field.Object) { Stop(o) }},
		{"stop", `["x"]`, `["x",""]`, func(o *field.Object) { Stop(o) }},
		{"tools", many(maxTools, tool), many(maxTools+1, tool), func(o *field.Object) { Tools(o, self, nil) }},
		{"logit_bias", bias(maxBias), bias(maxBias + 1), func(o *field.Object) { Sampling(o) }},
		{"logit_bias", `{"7":-100}`, `{"x":1}`, func(o *field.Object) { Sampling(o) }},
		{"temperature", "2", "2.1", func(o *field.Object) { Sampling(o) }},
		{"top_p", "1", "1.1", func(o *field.Object) { Drawing(o) }},
		{"repetition_penalty", "0.01", "0", func(o *field.Object) { Drawing(o) }},
		{"frequency_penalty", "-2", "-2.1", func(o *field.Object) { Sampling(o) }},
		{"max_tokens", "1", "0", func(o *field.Object) { MaxTokens(o, "max_tokens") }},
		{"effort", `"max"`, `"most"`, func(o *field.Object) { Effort(o, "effort") }},
		{"prompt", "null", `"x"`, func(o *field.Object) { Refuse(o, Elsewhere{"prompt", "it is in messages"}) }},
	} {
		for _, value := range []struct {
			text string
			ok   bool
		}{{c.fits, true}, {c.beyond, false}} {
			o := parse(t, `{"`+c.name+`":`+value.text+`}`)
			c.read(o)
			e := exchange.AsError(o.Err())
			if (o.Err() == nil) != value.ok || !value.ok && !strings.HasPrefix(e.Param, c.name) {
				t.Errorf("%s %.40s: %v", c.name, value.text, o.Err())
			}
		}
	}
}

// No probability at all stands for the most likely token, since nothing could be drawn else; and what is not said stays open.
func TestDrawingOfTokens(t *testing.T) {
	s := Sampling(parse(t, `{"top_p":0,"temperature":1.5}`))
	if s.TopP != nil || s.Temperature == nil || *s.Temperature != 0 {
		t.Errorf("top_p 0: %+v", s)
	}
	s = Sampling(parse(t, `{"top_k":40,"seed":-3,"logit_bias":{"5":-1.5}}`))
	if s.Temperature != nil || *s.TopK != 40 || *s.Seed != -3 || s.LogitBias[5] != -1.5 || s.MinP != nil {
		t.Errorf("%+v", s)
	}
}

// Which tools may be called follows from tool_choice; what it names has to be offered.
func TestChoices(t *testing.T) {
	const offered = `"tools":[{"type":"function","name":"departures"},{"type":"function","name":"fares"}]`
	for _, c := range []struct {
		choice, may string
		want        exchange.Choice
		wrong       string // the field at fault
	}{
		{`"auto"`, "departures fares", exchange.Choice{}, ""},
		{`"none"`, "", exchange.Choice{}, ""},
		{`"required"`, "departures fares", exchange.Choice{Required: true}, ""},
		{`{"type":"function","name":"fares"}`, "departures fares", exchange.Choice{Required: true, Single: true, Names: []string{"fares"}}, ""},
		{`{"type":"allowed_tools","mode":"required","tools":[{"type":"function","name":"fares"}]}`, "fares", exchange.Choice{Required: true}, ""},
		{`{"type":"allowed_tools","mode":"auto","tools":[]}`, "", exchange.Choice{}, "tool_choice.tools"},
		{`{"type":"function","name":"tides"}`, "departures fares", exchange.Choice{}, "tool_choice.name"},
		{`{"type":"function"}`, "departures fares", exchange.Choice{}, "tool_choice.name"},
		{`{}`, "departures fares", exchange.Choice{}, "tool_choice.type"},
		{`"sometimes"`, "departures fares", exchange.Choice{}, "tool_choice"},
	} {
		o := parse(t, `{`+offered+`,"tool_choice":`+c.choice+`}`)
		tools, choice := Choice(o, Tools(o, self, nil), Chooser{Function: self, Allowed: self})
		if c.wrong != "" {
			if e := exchange.AsError(o.Err()); o.Err() == nil || e.Param != c.wrong {
				t.Errorf("%s: %v, want an error about %s", c.choice, o.Err(), c.wrong)
			}
			continue
		}
		var may []string
		for _, tool := range tools {
			may = append(may, tool.Name)
		}
		if o.Err() != nil || strings.Join(may, " ") != c.may || choice.Required != c.want.Required || choice.Single != c.want.Single || !slices.Equal(choice.Names, c.want.Names) {
			t.Errorf("%s: %v may be called, %+v, %v", c.choice, may, choice, o.Err())
		}
	}
	o := parse(t, `{"tool_choice":"required"}`)
	if Choice(o, nil, Chooser{Function: self, Allowed: self}); o.Err() == nil {
		t.Error("a call is asked for though nothing can be called")
	}
}

// A picture is one by how its address begins, and by what it holds where it holds it.
func TestPictures(t *testing.T) {
	for address, is := range map[string]bool{
		"data:image/png;base64,iVBORw0KGgo=": true, "DATA:image/webp;base64,AAAA": true, "https://sorrel.example/pier.png": true, "http://sorrel.example/pier.png": true,
		"data:image/png;base64,": false, "data:image/png;base64,no base64!": false, "data:image/png;base64,AAAA===": false, "data:text/plain;base64,AAAA": false, "file:///pier.png": false, "https://": false, "": false,
	} {
		o := parse(t, fmt.Sprintf(`{"url":%q,"detail":"low"}`, address))
		if image := Image(o, "url"); (o.Err() == nil) != is || !strings.EqualFold(image.URL, address) || image.Detail != "low" {
			t.Errorf("%q: %+v, %v", address, image, o.Err())
		}
	}
}

// Only fields that are named are carried, as they stand.
func TestCarriedFields(t *testing.T) {
	o := parse(t, `{"user":"kiosk 7","metadata":{"line":"sorrel"},"verbosity":null,"service_tier":"flex"}`)
	carried := Carried(o, "user", "metadata", "verbosity")
	if len(carried) != 2 || string(carried["user"]) != `"kiosk 7"` || string(carried["metadata"]) != `{"line":"sorrel"}` {
		t.Errorf("%s", carried)
	}
	if Carried(parse(t, `{}`), "user") != nil {
		t.Error("nothing is something")
	}
}
