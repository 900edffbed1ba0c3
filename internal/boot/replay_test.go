package boot_test

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/config"
	"kindredgate/internal/replay"
	"kindredgate/internal/server"
	"kindredgate/internal/suite"
	"kindredgate/internal/suites"
)

// recording is a gate with its engine that records what is said.
func recording(t *testing.T) *routed {
	t.Helper()
	cfg := settings(t, t.TempDir())
	cfg.Record = config.Record{Content: true, Days: 30, Space: 1 << 26}
	r := &routed{t: t}
	r.app, r.key = running(t, cfg, options)
	r.gate("POST", "/gate/presets", `{"name":"master","model":"harbour-4m","instructions":"You are a cheerful harbour master."}`, 201)
	return r
}

// recorded asks and waits until the exchange is recorded. It returns its id.
func (r *routed) recorded(path, body string) string {
	r.t.Helper()
	status, got, header := call(r.t, "POST", r.app.Server.BaseURL()+path, r.key, body)
	if status != 200 {
		r.t.Fatal(got)
	}
	id := header.Get("X-Request-Id")
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(2 * time.Millisecond) {
		status, got, _ := call(r.t, "GET", strings.TrimSuffix(r.app.Server.BaseURL(), "/v1")+"/gate/exchanges/"+id, r.key, "")
		if status == 200 && strings.Contains(got, `"content"`) {
			return id
		} else if time.Now().After(deadline) {
			r.t.Fatal(got)
		}
	}
}

func TestReplay(t *testing.T) {
	r := recording(t)
	id := r.recorded("/chat/completions", `{"model":"harbour-4m","temperature":0,"messages":[{"role":"user","content":"When is the last boat to Osmer?"}]}`)
	again := func(id, body string) (out replay.Result) {
		t.Helper()
		if err := json.Unmarshal([]byte(r.gate("POST", "/gate/exchanges/"+id+"/replay", body, 200)), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	// As it was it gives what it gave, and the recorded answer is as likely.
	same := again(id, `{}`)
	if !same.Same || same.Alike != 1 || same.Parting != nil || same.Recorded.LogProb == nil || math.Abs(*same.Recorded.LogProb-*same.Replayed.LogProb) > 1e-4 || same.Replayed.Prompt != same.Recorded.Prompt {
		t.Errorf("%+v", same)
	}
	// A preset changes the prompt, and so the answer; where they part, each says what it would have said.
	other := again(id, `{"model":"master"}`)
	if other.Same || other.Replayed.Preset != "master" || other.Replayed.Prompt <= other.Recorded.Prompt || *other.Replayed.LogProb >= *other.Recorded.LogProb || other.Parting == nil {
		t.Fatalf("%+v", other)
	}
	p := other.Parting
	if len(p.Recorded) < 2 || len(p.Replayed) < 2 || p.Recorded[0].Text == p.Replayed[0].Text {
		t.Errorf("%+v", p)
	}
	// The preset's part is taken out again where the model is asked without it.
	preset := r.recorded("/chat/completions", `{"model":"master","temperature":0,"messages":[{"role":"user","content":"When is the last boat to Osmer?"}]}`)
	if back := again(preset, `{"model":"harbour-4m"}`); back.Replayed.Prompt != same.Recorded.Prompt || back.Replayed.Answers[0].Text != same.Recorded.Answers[0].Text {
		t.Errorf("%+v", back)
	}
	if kept := again(preset, `{}`); !kept.Same || kept.Replayed.Preset != "master" {
		t.Errorf("%+v", kept)
	}
	if raw := again(id, `{"style":"raw","max_tokens":5}`); raw.Replayed.Prompt >= raw.Recorded.Prompt || raw.Replayed.Completion > 5 {
		t.Errorf("%+v", raw)
	}
	for want, c := range map[string]struct {
		id, body string
		status   int
	}{
		"there is no field": {id, `{"temprature":0}`, 400}, "is not installed": {id, `{"model":"harbour-9m"}`, 404}, "style is": {id, `{"style":"poem"}`, 400}, "not_found": {"nobody", `{}`, 404},
	} {
		if got := r.gate("POST", "/gate/exchanges/"+c.id+"/replay", c.body, c.status); !strings.Contains(got, want) {
			t.Errorf("%s: %s", c.body, got)
		}
	}
}

// How likely an answer is, is the sum over its tokens of what the same model says when it is made to say them.
func TestMeasuredAnswers(t *testing.T) {
	r := recording(t)
	measure := func(body string) (out server.Measured) {
		t.Helper()
		if err := json.Unmarshal([]byte(r.gate("POST", "/gate/prompt/measure", body, 200)), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	const answer = "The last boat to Osmer leaves at 19:40."
	ask := `"model":"harbour-4m","messages":[{"role":"user","content":"When is the last boat to Osmer?"}]`
	status, body, _ := call(t, "POST", r.app.Server.BaseURL()+"/chat/completions", r.key, `{`+ask+`,"temperature":0,"logprobs":true}`)
	var said struct {
		Choices []struct {
			Message  struct{ Content string }
			Logprobs struct{ Content []struct{ Logprob float64 } }
		}
	}
	if err := json.Unmarshal([]byte(body), &said); status != 200 || err != nil || said.Choices[0].Message.Content != answer {
		t.Fatal(status, err, body)
	}
	sum := 0.0
	for _, tok := range said.Choices[0].Logprobs.Content {
		sum += tok.Logprob
	}
	for range 2 { // the second time the prompt is known
		got := measure(`{` + ask + `,"answer":"` + answer + `"}`)
		if math.Abs(got.LogProb-sum) > 1e-3 || len(got.Tokens) != len(said.Choices[0].Logprobs.Content) || got.PromptTokens != 12 {
			t.Errorf("%+v, the model itself says %g", got, sum)
		}
	}
	if raw := measure(`{"model":"harbour-4m","style":"raw","prompt":"When is the last boat to Osmer?","answer":"` + answer + `"}`); raw.LogProb >= sum {
		t.Errorf("without the template it is %g, with it %g", raw.LogProb, sum)
	}
	if other := measure(`{` + ask + `,"answer":"` + answer + `","template":"{% for m in messages %}{{ m.content }}{% endfor %}"}`); other.LogProb >= sum || other.PromptTokens >= 12 {
		t.Errorf("%+v", other)
	}
	for want, body := range map[string]string{"answer is missing": `{` + ask + `}`, "messages is missing": `{"model":"harbour-4m","answer":"x"}`} {
		if got := r.gate("POST", "/gate/prompt/measure", body, 400); !strings.Contains(got, want) {
			t.Errorf("%s: %s", body, got)
		}
	}
}

// A suite is run by a gate, is kept, and stands beside the model; its exchanges are in the ledger.
func TestSuites(t *testing.T) {
	r := recording(t)
	run := func(body string) suite.Report {
		t.Helper()
		got := r.gate("POST", "/gate/suites/run", body, 200)
		for line := range strings.SplitSeq(got, "\n") {
			if data, ok := strings.CutPrefix(line, "data: "); ok && strings.Contains(data, `"report"`) {
				var e suites.Event
				if err := json.Unmarshal([]byte(data), &e); err != nil {
					t.Fatal(err)
				}
				return *e.Report
			}
		}
		t.Fatal(got)
		return suite.Report{}
	}
	report := run(`{"models":["harbour-4m"],"samples":2,"at_once":3}`)
	if report.Suite != "Abilities" || len(report.Cells) != 15 || report.Samples != 2 {
		t.Errorf("%+v", report)
	}
	for _, c := range report.Cells {
		if c.Case == "keeps-to-a-schema" && c.Passed != 2 {
			t.Errorf("%+v", c) // which the grammar enforces
		}
	}
	var m server.InstalledModel
	if err := json.Unmarshal([]byte(r.gate("GET", "/gate/models/harbour-4m", "", 200)), &m); err != nil || m.Ability == nil || m.Ability.Run != report.ID || m.Ability.Cases != 15 {
		t.Errorf("%v %+v", err, m.Ability)
	}
	text, err := json.Marshal("suite: Judged\ncases:\n  x:\n    said: [{user: When is the last boat to Osmer?}]\n    answer: {holds: '19:40', judged: {by: harbour-4m, whether: it names a time}}\n")
	if err != nil {
		t.Fatal(err)
	}
	judged := run(fmt.Sprintf(`{"suite":%s,"models":["harbour-4m"]}`, text))
	if c := judged.Cells[0]; c.Asked != 1 || len(c.Failures) > 0 && c.Failures[0].What != "judged" {
		t.Errorf("%+v", c) // the sample model judges as it can, but it gives a verdict
	}
	var list server.SuiteRunList
	if err := json.Unmarshal([]byte(r.gate("GET", "/gate/suites", "", 200)), &list); err != nil || len(list.Runs) != 2 || list.Runs[0].ID != judged.ID {
		t.Errorf("%v %+v", err, list)
	}
	for want, c := range map[string]struct {
		body   string
		status int
	}{
		"did you mean": {`{"suite":"suite: x\ncases: {a: {said: [{user: x}], answer: {hold: y}}}","models":["harbour-4m"]}`, 400}, "is not installed": {`{"models":["harbour-9m"]}`, 404}, "samples": {`{"models":["harbour-4m"],"samples":1000}`, 400},
	} {
		if got := r.gate("POST", "/gate/suites/run", c.body, c.status); !strings.Contains(got, want) {
			t.Errorf("%s: %s", c.body, got)
		}
	}
}

func decode(t *testing.T, raw string, into any) {
	t.Helper()
	if err := json.Unmarshal([]byte(raw), into); err != nil {
		t.Fatalf("%v: %s", err, raw)
	}
}
