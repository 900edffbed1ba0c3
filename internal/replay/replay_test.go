package replay

import (
	"encoding/json"
	"reflect"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/record"
)

func turn(role exchange.Role, text string) exchange.Turn {
	return exchange.Turn{Role: role, Parts: []exchange.Part{exchange.Text(text)}}
}

// A replay asks what was recorded, but for what is to be another way; of what a preset had added nothing stays.
func TestWhatIsAskedAgain(t *testing.T) {
	brief, none, yes, no := "Be brief.", "", true, false
	wanted := "an answer"
	recorded := func() exchange.Request {
		return exchange.Request{
			Model: "timetable", Turns: []exchange.Turn{turn(exchange.System, "You are a clerk."), turn(exchange.System, "Of the ferry line."), turn(exchange.User, "When?"), turn(exchange.Assistant, "At 19:40."), turn(exchange.User, "Where?")},
			Tools: []exchange.Tool{{Name: "departures", Parameters: json.RawMessage(`{}`)}}, Choice: exchange.Choice{Required: true}, Candidates: 3, Effort: "high", Thinking: true, MaxTokens: 9, Wanted: &wanted,
		}
	}
	for _, c := range []struct {
		name   string
		of     record.Record
		change Change
		want   func(r *exchange.Request) // what is another way than it was recorded
	}{
		{"as it was", record.Record{Answered: "harbour-4m"}, Change{}, func(r *exchange.Request) { r.Model = "harbour-4m" }},
		{"by the preset that answered", record.Record{Answered: "harbour-4m", Preset: "master"}, Change{}, func(r *exchange.Request) { r.Model = "master" }},
		{"another model", record.Record{Answered: "harbour-4m"}, Change{Model: "reef"}, func(r *exchange.Request) { r.Model = "reef" }},
		{"other instructions, in the place of all that there were", record.Record{}, Change{Instructions: &brief}, func(r *exchange.Request) {
			r.Turns = append([]exchange.Turn{turn(exchange.System, brief)}, r.Turns[2:]...)
		}},
		{"no instructions", record.Record{}, Change{Instructions: &none}, func(r *exchange.Request) { r.Turns = r.Turns[2:] }},
		{"generate, which has no tools", record.Record{}, Change{Style: "generate"}, func(r *exchange.Request) {
			r.Turns = []exchange.Turn{turn(exchange.System, "You are a clerk."), turn(exchange.User, "Where?")}
			r.Tools, r.Choice = nil, exchange.Choice{}
		}},
		{"completion", record.Record{}, Change{Style: "completion"}, func(r *exchange.Request) {
			r.Raw, r.Turns, r.Tools, r.Choice = &exchange.Raw{Text: "Where?"}, nil, nil, exchange.Choice{}
		}},
		{"with reasoning", record.Record{}, Change{Reasoning: &yes}, func(r *exchange.Request) { r.Effort = "" }},
		{"without reasoning", record.Record{}, Change{Reasoning: &no}, func(r *exchange.Request) { r.Thinking, r.Effort = false, "" }},
		{"a shorter answer", record.Record{}, Change{MaxTokens: 4}, func(r *exchange.Request) { r.MaxTokens = 4 }},
	} {
		want := recorded()
		want.Candidates, want.Wanted = 1, nil
		c.want(&want)
		got, err := changed(recorded(), c.of, c.change)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %v\n%+v, want\n%+v", c.name, err, got, want)
		}
	}
	if _, err := changed(recorded(), record.Record{}, Change{Style: "song"}); err == nil {
		t.Error("a style that there is not is taken")
	}
	raw := exchange.Request{Model: "m", Raw: &exchange.Raw{Text: "The last boat"}}
	if got, err := changed(raw, record.Record{}, Change{Style: "chat"}); err != nil || got.Raw != nil || len(got.Turns) != 1 || got.Turns[0].Text() != "The last boat" {
		t.Errorf("a completion asked as a chat: %+v, %v", got, err)
	}
}
