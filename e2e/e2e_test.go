package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	// What the binary is built of, so that a result of these tests is not taken from the cache after a change in it.
	_ "kindredgate/internal/cli"
)

var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "kindred")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "kindred")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", binary, "../cmd/kindred")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	if err := os.RemoveAll(dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(code)
}

func startDemo(t testing.TB) *Gate {
	t.Helper()
	return start(t, t.TempDir(), "demo", "--listen", "127.0.0.1:0")
}

// start starts a gate that is stopped when the test ends.
func start(t testing.TB, folder string, args ...string) *Gate {
	t.Helper()
	g, err := Start(binary, folder, args...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := g.Stop(); err != nil {
			t.Error(err)
		}
		if t.Failed() {
			t.Logf("the gate printed:\n%s", g.Output())
		}
	})
	return g
}

// run runs a command beside the gate.
func run(t testing.TB, g *Gate, stdin string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	stdout, stderr, code, err := g.Command(stdin, args...)
	if err != nil {
		t.Fatal(err)
	}
	return stdout, stderr, code
}

func post(t testing.TB, g *Gate, key, body string) (int, string) {
	t.Helper()
	return call(t, g, key, "POST", "/chat/completions", body)
}

// call makes a request below the base URL.
func call(t testing.TB, g *Gate, key, method, path, body string) (status int, answer string) {
	t.Helper()
	req, err := http.NewRequest(method, g.BaseURL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(raw)
}

// vector is a conversation with what the model must write after it.
type vector struct {
	Messages json.RawMessage `json:"messages"`
	Tools    json.RawMessage `json:"tools"`
	Text     string          // without the end token
}

func readVector(t testing.TB, name string) vector {
	t.Helper()
	raw, err := os.ReadFile("../internal/model/testdata/harbour-q8_0.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Prompts []struct {
			Name         string `json:"name"`
			Conversation vector `json:"conversation"`
			Text         string `json:"greedy_text"`
		} `json:"prompts"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	for _, p := range doc.Prompts {
		if p.Name == name {
			p.Conversation.Text = strings.TrimSuffix(p.Text, "<|end|>")
			return p.Conversation
		}
	}
	t.Fatalf("no vector %s", name)
	return vector{}
}

// chatVector is a conversation with the answer that the model must give.
func chatVector(t testing.TB) (messages, answer string) {
	t.Helper()
	v := readVector(t, "chat-1")
	return string(v.Messages), v.Text
}

// An application with the printed address and key gets the model's answer, whole and streamed.
func TestApplicationGetsTheAnswer(t *testing.T) {
	g := startDemo(t)
	messages, want := chatVector(t)
	body := fmt.Sprintf(`{"model": "harbour-4m", "temperature": 0, "messages": %s}`, messages)
	status, raw := post(t, g, g.Key, body)
	var whole struct {
		Choices []struct {
			Message      struct{ Content string }
			FinishReason string `json:"finish_reason"`
		}
	}
	if err := json.Unmarshal([]byte(raw), &whole); err != nil || status != 200 || whole.Choices[0].Message.Content != want || whole.Choices[0].FinishReason != "stop" {
		t.Errorf("%d %s; want %q", status, raw, want)
	}
	status, raw = post(t, g, g.Key, strings.Replace(body, "{", `{"stream": true, `, 1))
	var text strings.Builder
	for line := range strings.Lines(raw) {
		var chunk struct {
			Choices []struct{ Delta struct{ Content string } }
		}
		if data, ok := strings.CutPrefix(line, "data: {"); ok {
			if err := json.Unmarshal([]byte("{"+data), &chunk); err != nil {
				t.Fatal(err)
			}
			text.WriteString(chunk.Choices[0].Delta.Content)
		}
	}
	if status != 200 || text.String() != want || !strings.HasSuffix(raw, "data: [DONE]\n\n") {
		t.Errorf("streamed: %d %q; want %q", status, text.String(), want)
	}
	if kb, err := g.ResidentKB(); err != nil || kb > 120_000 {
		t.Errorf("the demo holds %d kB, %v", kb, err)
	}
	if info, err := os.Stat(binary); err != nil || info.Size() > 60<<20 {
		t.Errorf("the binary has %d bytes, %v", info.Size(), err)
	}
}

// An agent offers a tool, gets a call, gives the result, and gets an answer from it. Reasoning comes apart from it.
func TestToolsAndReasoning(t *testing.T) {
	g := startDemo(t)
	type choice struct {
		Message struct {
			Content   *string         `json:"content"`
			Reasoning string          `json:"reasoning_content"`
			ToolCalls json.RawMessage `json:"tool_calls"`
		} `json:"message"`
		FinishReason string `json:"finish_reason"`
	}
	ask := func(messages json.RawMessage, more string) choice {
		t.Helper()
		status, body := post(t, g, g.Key, fmt.Sprintf(`{"model": "harbour-4m", "temperature": 0, "messages": %s%s}`, messages, more))
		var answer struct {
			Choices []choice `json:"choices"`
		}
		if err := json.Unmarshal([]byte(body), &answer); err != nil || status != 200 {
			t.Fatalf("%d %s", status, body)
		}
		return answer.Choices[0]
	}
	v := readVector(t, "tools-1")
	tools := fmt.Sprintf(`, "tools": %s`, v.Tools)
	first := ask(v.Messages, tools)
	var calls []struct {
		ID       string `json:"id"`
		Function struct {
			Name      string `json:"name"`
			Arguments string `json:"arguments"`
		} `json:"function"`
	}
	if err := json.Unmarshal(first.Message.ToolCalls, &calls); err != nil || len(calls) != 1 || calls[0].ID == "" || first.FinishReason != "tool_calls" || first.Message.Content != nil {
		t.Fatalf("%+v %s, %v", first, first.Message.ToolCalls, err)
	}
	if written := fmt.Sprintf(`<tool_call>{"name":%q,"arguments":%s}</tool_call>`, calls[0].Function.Name, calls[0].Function.Arguments); written != v.Text {
		t.Errorf("the call is that of %s, want %s", written, v.Text)
	}
	var question []json.RawMessage
	if err := json.Unmarshal(v.Messages, &question); err != nil {
		t.Fatal(err)
	}
	followed, err := json.Marshal(append(question,
		json.RawMessage(fmt.Sprintf(`{"role": "assistant", "tool_calls": %s}`, first.Message.ToolCalls)),
		json.RawMessage(fmt.Sprintf(`{"role": "tool", "tool_call_id": %q, "content": "{\"departure\": \"11:20\"}"}`, calls[0].ID))))
	if err != nil {
		t.Fatal(err)
	}
	if second := ask(followed, tools); second.FinishReason != "stop" || second.Message.Content == nil || second.Message.ToolCalls != nil {
		t.Errorf("after the result: %+v", second)
	}
	if none := ask(v.Messages, tools+`, "tool_choice": "none"`); none.Message.ToolCalls != nil {
		t.Errorf("although none was to be called: %+v", none)
	}

	v = readVector(t, "think-1")
	reasoning, content, _ := strings.Cut(v.Text, "\n</think>\n")
	if got := ask(v.Messages, `, "reasoning_effort": "low"`); got.Message.Reasoning != reasoning || *got.Message.Content != content {
		t.Errorf("%q, %q; want %q, %q", got.Message.Reasoning, *got.Message.Content, reasoning, content)
	}
}

func TestCommandLine(t *testing.T) {
	const arrangement = "names: { timetable: harbour-4m }\npresets: { caller: { model: harbour-4m, temperature: 0 } }\nkeys: { kiosk: { models: [timetable], limits: { requests_per_minute: 10 } } }"
	const circle = "names: { pier: { of: [{ to: harbour-4m, keys: [clerk] }] } }\nkeys: { clerk: { models: [pier] } }"
	g := startDemo(t)
	_, want := chatVector(t)
	question := "When is the last boat to Osmer?"
	for _, c := range []struct {
		name, stdin string
		args        []string
		code        int
		out, err    string // what must be in the output
	}{
		{"ask", "", []string{"ask", "--temperature", "0", question}, 0, want + "\n", ""},
		{"ask whole", "", []string{"ask", "--temperature", "0", "--no-stream", question}, 0, want + "\n", ""},
		{"ask from standard input", question + "\n", []string{"ask", "--temperature", "0", "-"}, 0, want + "\n", ""},
		{"ask as JSON", "", []string{"ask", "--json", "--max-tokens", "1", question}, 0, `"finish_reason": "length"`, ""},
		{"ask, cut off", "", []string{"ask", "--max-tokens", "1", question}, 0, "", "cut off at the limit"},
		{"ask with another key", "", []string{"ask", "--key", "kg_x", question}, 1, "", "the key is mistyped"},
		{"ask an unknown model", "", []string{"ask", "--model", "harbour-9m", question}, 1, "", `model "harbour-9m" is not installed; installed: harbour-4m`},
		{"ask by the whole base URL", "", []string{"ask", "--address", g.BaseURL, "--key", g.Key, "--temperature", "0", question}, 0, want + "\n", ""},
		{"ask nobody", "", []string{"ask", "--address", "127.0.0.1:1", question}, 1, "", "no gate answers at http://127.0.0.1:1"},
		{"ask with reasoning", "", []string{"ask", "--reason", "--temperature", "0", "Which is quicker to reach, Brannoc or Marrow Isle?"}, 0, "Brannoc is quicker", "25 minutes"},
		{"ask in the generate style", "", []string{"ask", "--style", "generate", "--temperature", "0", question}, 0, want + "\n", ""},
		{"ask in the response style", "", []string{"ask", "--style", "response", "--temperature", "0", question}, 0, want + "\n", ""},
		{"ask in the response style, whole", "", []string{"ask", "--style", "response", "--no-stream", "--temperature", "0", question}, 0, want + "\n", ""},
		{"ask in the response style, with reasoning, cut off", "", []string{"ask", "--style", "response", "--reason", "--max-tokens", "2", question}, 0, "\n", "cut off at the limit"},
		{"ask with a raw prompt", "", []string{"ask", "--style", "raw", "--temperature", "0", "--show-prompt", "<|user|>" + question + "<|end|><|assistant|>"}, 0, want + "\n", "<|begin|><|user|>When"},
		{"ask with a raw prompt and instructions", "", []string{"ask", "--style", "completion", "--instructions", "x", question}, 2, "", "neither instructions nor reasoning"},
		{"ask in an unknown style", "", []string{"ask", "--style", "verse", question}, 2, "", "chat, generate, response, completion"},
		{"snippet", "", []string{"snippet", question}, 0, "curl " + g.BaseURL + "/chat/completions", ""},
		{"snippet in an unknown language", "", []string{"snippet", "--lang", "latin", question}, 2, "", "powershell"},
		{"snippet in an unknown style", "", []string{"snippet", "--style", "verse", question}, 2, "", "chat, generate, response, completion"},
		{"models show an embedding model", "", []string{"models", "show", "harbour-embed"}, 0, "256 numbers", ""},
		{"ask nothing", "", []string{"ask"}, 2, "", "there is no question"},
		{"render", "", []string{"render", "--instructions", "Be brief.", question}, 0, "messages[0].content", ""},
		{"render the text", "", []string{"render", "--text", "Hi <|end|>"}, 0, "<|begin|><|user|>Hi <|end|><|end|><|assistant|>", ""},
		{"render in every style", "", []string{"render", "--compare", "--instructions", "Be brief.", question}, 0, "Chat and generate send the model the same prompt.", ""},
		{"render in every style, from a file", "", []string{"render", "--compare", "--file", "x"}, 2, "", "--compare takes a question"},
		{"render as JSON", "", []string{"render", "--json", question}, 0, `"control": true`, ""},
		{"render a request", `{"messages": [{"role": "user", "content": "Hi"}], "tools": [{"type": "function", "function": {"name": "f"}}]}`, []string{"render", "--file", "/dev/stdin"}, 0, "tools[0]", ""},
		{"render a list of turns", `[{"role": "user", "content": "Hi"}]`, []string{"render", "--text", "--file", "/dev/stdin"}, 0, "<|user|>Hi<|end|>", ""},
		{"render a file that is none", "", []string{"render", "--file", "/no/such.json"}, 1, "", "no such file"},
		{"models list", "", []string{"models", "list"}, 0, "harbour-4m", ""},
		{"models list as JSON", "", []string{"models", "list", "--json"}, 0, `"context_length": 2048`, ""},
		{"models show", "", []string{"models", "show", "harbour-4m"}, 0, "temperature 0.2, top_p 0.95", ""},
		{"models show, what the template can do", "", []string{"models", "show", "harbour-4m"}, 0, "offered, several calls in a turn, results taken", ""},
		{"render near the end of the context", "", []string{"render", strings.Repeat("word ", 640)}, 0, "messages[0].content", "tokens for the answer"},
		{"models show none", "", []string{"models", "show"}, 2, "", "needs a model"},
		{"models show an unknown one", "", []string{"models", "show", "harbor"}, 1, "", "installed: harbour-4m"},
		{"presets add", "", []string{"presets", "add", "master", "--model", "harbour-4m", "--instructions", "You are a cheerful harbour master.", "--temperature", "0"}, 0, "master is added", ""},
		{"presets add, again", "", []string{"presets", "add", "master", "--model", "harbour-4m"}, 1, "", "there is a preset"},
		{"presets add without a model", "", []string{"presets", "add", "x"}, 2, "", "a preset needs a model"},
		{"presets change", "", []string{"presets", "change", "master", "--top-p", "0.9"}, 0, "master is changed", ""},
		{"presets show", "", []string{"presets", "show", "master"}, 0, "temperature 0, top_p 0.9", ""},
		{"presets list", "", []string{"presets", "list"}, 0, "You are a cheerful harbour master.", ""},
		{"ask without a model, beside a preset", "", []string{"ask", "--temperature", "0", question}, 0, want + "\n", ""},
		{"ask a preset", "", []string{"ask", "--model", "master", "How long is the crossing to Wick Skerry?"}, 0, "40 minutes", ""},
		{"render for a preset", "", []string{"render", "--model", "master", "--text", "Hi"}, 0, "<|system|>You are a cheerful harbour master.<|end|><|user|>Hi", ""},
		{"presets add with a broken template", "{% if %}", []string{"presets", "add", "b", "--model", "harbour-4m", "--template", "/dev/stdin"}, 1, "", "the template cannot be used: template line 1"},
		{"names set", "", []string{"names", "set", "vendor/large", "master"}, 0, `master serves "vendor/large"`, ""},
		{"names set, with a model's name", "", []string{"names", "set", "harbour-4m", "master"}, 1, "", "is an installed model"},
		{"names list", "", []string{"names"}, 0, "vendor/large   master", ""},
		{"ask a name", "", []string{"ask", "--model", "vendor/large", "How long is the crossing to Wick Skerry?"}, 0, "40 minutes", ""},
		{"traffic of a name", "", []string{"traffic", "--model", "vendor/large"}, 0, "vendor/large → harbour-4m", ""},
		{"traffic that is none", "", []string{"traffic", "--style", "raw", "--slow", "1h"}, 0, "no such exchange", ""},
		{"names remove", "", []string{"names", "remove", "vendor/large"}, 0, `Nothing serves "vendor/large"`, ""},
		{"names remove, again", "", []string{"names", "remove", "vendor/large"}, 1, "", "there is no public name"},
		{"presets remove", "", []string{"presets", "remove", "master"}, 0, "master is removed", ""},
		{"presets remove, again", "", []string{"presets", "remove", "master"}, 1, "", "there is no preset"},
		{"apply, looked at", arrangement, []string{"apply", "/dev/stdin", "--check"}, 0, "timetable   is new, served by harbour-4m", ""},
		{"apply", arrangement, []string{"apply", "/dev/stdin"}, 0, "Applied: 3 changes.", ""},
		{"apply, by its old name", arrangement, []string{"arrange", "/dev/stdin", "--carry-out"}, 0, "The gate is as", "is called \"apply\" now"},
		{"apply, changed", strings.Replace(arrangement, ": 10", ": 20", 1), []string{"apply", "/dev/stdin", "--check"}, 0, `limits 20 req/min instead of 10 req/min`, ""},
		{"apply, what is refused", "names: { x: nope }", []string{"apply", "/dev/stdin"}, 1, "", `"nope" is not installed`},
		{"apply, less", "names: {}\npresets: {}", []string{"apply", "/dev/stdin"}, 0, "caller      is removed", ""},
		{"apply, each for the other", circle, []string{"apply", "/dev/stdin"}, 0, "pier    is new, served by harbour-4m for clerk\n\nApplied: 3 changes.", ""},
		{"apply, each for the other, again", circle, []string{"apply", "/dev/stdin", "--check"}, 0, "The gate is as", ""},
		{"apply, none of the other", "names: {}", []string{"apply", "/dev/stdin"}, 0, "pier   is removed", ""},
		{"apply, mistyped", "preset: {}", []string{"apply", "/dev/stdin"}, 1, "", `there is no setting "preset"; the nearest is "presets"`},
		{"how a gate would be set up", "ledger: { days: 7 }", []string{"serve", "--config", "/dev/stdin", "--print-config"}, 0, "days: 7        # file /dev/stdin:1", ""},
		{"groups set", "", []string{"groups", "set", "harbour", "--requests-per-day", "5"}, 0, `The group "harbour" has these limits`, ""},
		{"keys issue in a group", "", []string{"keys", "issue", "--label", "grouped", "--group", "harbour", "--record", "yes", "--json"}, 0, `"group": "harbour"`, ""},
		{"keys issue in no such group", "", []string{"keys", "issue", "--label", "x", "--group", "nowhere"}, 1, "", `there is no group "nowhere"`},
		{"keys issue narrower, with the owner's", "", []string{"keys", "issue", "--label", "x", "--narrower"}, 1, "", "may not issue others"},
		{"keys issue, recorded perhaps", "", []string{"keys", "issue", "--label", "x", "--record-content", "perhaps"}, 2, "", "must be yes, no or as-set"},
		{"groups list", "", []string{"groups"}, 0, "harbour   requests a day   5           5", ""},
		{"groups remove, with keys", "", []string{"groups", "remove", "harbour"}, 1, "", `the key "grouped"`},
		{"traffic export", "", []string{"traffic", "export", "--format", "csv", "--style", "raw"}, 0, ",completion,/v1/completions,harbour-4m,", ""},
		{"traffic export as it cannot be", "", []string{"traffic", "export", "--format", "xml"}, 1, "", "must be jsonl or csv"},
		{"traffic before there was any", "", []string{"traffic", "--until", "1h"}, 0, "no such exchange", ""},
		{"traffic that goes on until it is over", "", []string{"traffic", "--until", "1h", "--follow"}, 2, "", "give one of them"},
		{"traffic jobs", "", []string{"traffic", "jobs"}, 0, "There is no conversation", ""},
		{"traffic refused", "", []string{"traffic", "refused"}, 0, "404 model_not_found", ""},
		{"traffic refused, one that was not", "", []string{"traffic", "refused", "nothing"}, 1, "", "no request nothing"},
		{"traffic purge, of nothing said", "", []string{"traffic", "purge"}, 2, "", "say what is to be removed"},
		{"traffic purge", "", []string{"traffic", "purge", "--before", "7d"}, 0, "of 0 exchanges is deleted", ""},
		{"check", "", []string{"check"}, 0, "ok       streams", ""},
		{"check, whether it is ready", "", []string{"check", "--ready"}, 0, "ready\n", ""},
		{"check as JSON", "", []string{"check", "--json"}, 0, `"name": "permissions"`, ""},
		{"check from outside, without /v1", "", []string{"check", "--remote", strings.TrimSuffix(g.BaseURL, "/v1"), "--key", g.Key}, 1, "Give applications " + g.BaseURL, "something is wrong"},
		{"costs", "", []string{"costs", "--by", "model"}, 0, "harbour-4m", ""},
		{"costs of a month to come", "", []string{"costs", "--month", "2090-01"}, 0, "Nothing was asked in 2090-01", ""},
		{"costs of no month", "", []string{"costs", "--month", "soon"}, 1, "", "must be a month"},
		{"keys issue without a label", "", []string{"keys", "issue"}, 2, "", "needs a label"},
		{"keys issue for an unknown model", "", []string{"keys", "issue", "--label", "x", "--models", "nope"}, 1, "", `"nope" is not installed`},
		{"keys list", "", []string{"keys", "list"}, 0, "demo application", ""},
		{"keys revoke an unknown one", "", []string{"keys", "revoke", "nope"}, 1, "", `there is no key "nope"`},
		{"version", "", []string{"version"}, 0, "kindred 0.", ""},
		{"unknown command", "", []string{"dance"}, 2, "", `there is no command "dance" in kindred; see "kindred --help"`},
		{"unknown subcommand", "", []string{"keys", "dance"}, 2, "", `there is no command "dance" in kindred keys; see "kindred keys --help"`},
		{"unknown option", "", []string{"ask", "--loud", question}, 2, "", "there is no option --loud; a text that begins with a dash goes behind --"},
		{"a command that is nearly right", "", []string{"modells", "list"}, 2, "", "did you mean models?"},
		{"help of an unknown command", "", []string{"help", "dance"}, 2, "", `there is no command "dance"`},
		{"help of an unknown subcommand", "", []string{"help", "keys", "dance"}, 2, "", `there is no command "dance" in kindred keys`},
		{"help", "", []string{"help", "keys", "issue"}, 0, "--label", ""},
		{"a number that is none", "", []string{"ask", "--max-tokens", "many", question}, 2, "", `--max-tokens is "many"; it must be a whole number; see "kindred ask --help"`},
		{"an option without its value", "", []string{"ask", "--model"}, 2, "", "--model needs a value"},
		{"an address that is none", "", []string{"ask", "--address", "http://", question}, 2, "", "is not the address of a gate"},
		{"the version as an option", "", []string{"--version"}, 0, "kindred 0.", ""},
		{"a group lists", "", []string{"models"}, 0, "harbour-4m", ""},
		{"a group lists as JSON", "", []string{"keys", "--json"}, 0, `"label": "demo application"`, ""},
		{"ask with a text that is piped in", question, []string{"ask", "-t", "0", "Tell me:"}, 0, "19:40", ""},
		{"ask with a file", "", []string{"ask", "-t", "0", "-f", "testdata/question.txt"}, 0, "19:40", ""},
		{"ask with a file that is not there", "", []string{"ask", "-f", "/no/such.txt"}, 1, "", "no such file"},
		{"ask behind a dash", "", []string{"ask", "-n", "1", "--", "-5 degrees?"}, 0, "\n", ""},
		{"ask a question that begins with a dash", "", []string{"ask", "-5 degrees?"}, 2, "", "begins with a dash goes behind --"},
		{"ask by the beginning of a name", "", []string{"ask", "-m", "harbour-4", "-t", "0", question}, 0, want + "\n", ""},
		{"ask by number", "", []string{"ask", "-m", "1", "-t", "0", question}, 0, want + "\n", ""},
		{"ask an embedding model", "", []string{"ask", "-m", "harbour-embed", question}, 1, "", "makes embeddings, not text"},
		{"ask how alike texts are", "", []string{"ask", "--style", "embedding", "a boat", "a boat"}, 0, "1.000   1.000", ""},
		{"ask how alike lines are", "a boat\na cave\n", []string{"ask", "--style", "embedding"}, 0, "a cave", ""},
		{"a preset of an embedding model", "", []string{"presets", "add", "e", "--model", "harbour-embed"}, 1, "", "a preset has nothing to say"},
		{"a snippet in short words", "", []string{"snippet", "-l", "js", question}, 0, "await fetch", ""},
		{"talk without a terminal", question + "\n:said\n", []string{"talk", "-t", "0"}, 0, want + "\n\n> " + question, ""},
		{"talk, what is not there", ":dance\n:again\n", []string{"talk"}, 0, "", "there is no :dance"},
		{"talk goes on with nothing", "", []string{"talk", "--resume", "never"}, 1, "", `there is no talk "never"`},
		{"talk goes on elsewhere", "", []string{"talk", "--resume", "../x"}, 2, "", "is not the name of a talk"},
	} {
		out, errOut, code := run(t, g, c.stdin, c.args...)
		if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errOut, c.err) {
			t.Errorf("%s: code %d, output %q, errors %q; want %d, %q, %q", c.name, code, out, errOut, c.code, c.out, c.err)
		}
		if code != 0 && (c.out == "" && out != "" || strings.Count(errOut, "\n") != 1) {
			t.Errorf("%s: a failure is one line on standard error, not %q and %q", c.name, out, errOut)
		}
	}
}

// The snippets that can run here do, with nothing but what their language comes with, and print the answer.
func TestSnippetsRun(t *testing.T) {
	g := startDemo(t)
	_, want := chatVector(t)
	const question = "When is the last boat to Osmer?"
	dir := t.TempDir()
	programs := map[string]func(file string) *exec.Cmd{
		"curl":       func(file string) *exec.Cmd { return exec.Command("sh", file) },
		"python":     func(file string) *exec.Cmd { return exec.Command("/usr/bin/python3", file) },
		"javascript": func(file string) *exec.Cmd { return exec.Command("node", file) },
		"go":         func(file string) *exec.Cmd { return exec.Command("go", "run", file) },
	}
	endings := map[string]string{"curl": "sh", "python": "py", "javascript": "mjs", "go": "go"}
	for _, style := range []string{"chat", "generate", "response", "completion", "embedding"} {
		text, says := question, want
		switch style {
		case "completion":
			text = "<|user|>" + question + "<|end|><|assistant|>"
		case "embedding":
			says = "0.0"
		}
		for language, command := range programs {
			snippet, errOut, code := run(t, g, "", "snippet", "--style", style, "--lang", language, "--temperature", "0", text)
			if code != 0 {
				t.Fatal(errOut)
			}
			file := filepath.Join(dir, style+"."+endings[language])
			if err := os.WriteFile(file, []byte(snippet), 0o644); err != nil {
				t.Fatal(err)
			}
			cmd := command(file)
			cmd.Env = append(os.Environ(), "KINDRED_KEY="+g.Key)
			out, err := cmd.CombinedOutput()
			if err != nil || !strings.Contains(string(out), says) {
				t.Errorf("%s in %s: %v\n%s\n%s", style, language, err, snippet, out)
			}
		}
	}
}

// A response in the background that a killed gate leaves behind is marked as failed when it starts again.
func TestBackgroundAfterAKill(t *testing.T) {
	folder := t.TempDir()
	g, err := Start(binary, folder, "demo", "--listen", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ask := func(g *Gate, method, path, body string) (r struct{ ID, Status string }) {
		t.Helper()
		req, err := http.NewRequest(method, g.BaseURL+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+g.Key)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		if err := json.NewDecoder(resp.Body).Decode(&r); err != nil || resp.StatusCode != 200 {
			t.Fatalf("%d, %v", resp.StatusCode, err)
		}
		return r
	}
	// A raw answer without an end goes on for some seconds.
	begun := ask(g, "POST", "/responses", `{"model": "harbour-4m", "input": "Tell me everything.", "background": true, "stop": ["\u0001"], "logit_bias": {"2042": -100}}`)
	if begun.Status != "queued" && begun.Status != "in_progress" {
		t.Fatalf("%+v", begun)
	}
	if err := g.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if _, err := g.Wait(5 * time.Second); err != nil {
		t.Fatal(err)
	}
	again, err := Start(binary, folder, "demo", "--listen", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := again.Stop(); err != nil {
			t.Error(err)
		}
	}()
	if got := ask(again, "GET", "/responses/"+begun.ID, ""); got.Status != "failed" {
		t.Errorf("%+v", got)
	}
}

func TestKeysByCommand(t *testing.T) {
	g := startDemo(t)
	out, _, code := run(t, g, "", "keys", "issue", "--label", "board", "--models", "harbour-4m")
	key := strings.TrimSpace(out)
	if code != 0 || len(key) != 45 {
		t.Fatalf("code %d, %q", code, out)
	}
	const body = `{"model": "harbour-4m", "max_tokens": 1, "messages": [{"role": "user", "content": "Hi"}]}`
	if status, raw := post(t, g, key, body); status != 200 {
		t.Errorf("the new key: %d %s", status, raw)
	}
	if out, _, code := run(t, g, "", "keys", "revoke", "board"); code != 0 || !strings.Contains(out, "is revoked") {
		t.Errorf("code %d, %q", code, out)
	}
	if status, raw := post(t, g, key, body); status != 401 || !strings.Contains(raw, "was revoked") {
		t.Errorf("the revoked key: %d %s", status, raw)
	}
}

// A restart keeps the address, the keys and the owner; a lost owner key is replaced.
func TestRestartKeepsKeys(t *testing.T) {
	g := startDemo(t)
	if err := g.Stop(); err != nil {
		t.Fatal(err)
	}
	address := strings.TrimSuffix(strings.TrimPrefix(g.BaseURL, "http://"), "/v1")
	again, err := Start(binary, g.Folder, "demo", "--listen", address)
	if err != nil {
		t.Fatal(err)
	}
	if again.BaseURL != g.BaseURL || again.Key != g.Key || again.Owner != g.Owner {
		t.Errorf("%s %s %s became %s %s %s", g.BaseURL, g.Key, g.Owner, again.BaseURL, again.Key, again.Owner)
	}
	if err := again.Stop(); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(g.Folder + "/data/kindred-gate/demo/owner.key"); err != nil {
		t.Fatal(err)
	}
	third, err := Start(binary, g.Folder, "demo", "--listen", address)
	if err != nil {
		t.Fatal(err)
	}
	defer third.Stop()
	if third.Owner == g.Owner {
		t.Error("the lost owner key is still the owner key")
	}
	if _, errOut, code := run(t, third, "", "keys", "list", "--key", g.Owner); code != 1 || !strings.Contains(errOut, "was revoked") {
		t.Errorf("the lost owner key: code %d, %q", code, errOut)
	}
}

// What keeps a gate from starting is told in one line, and nothing is lost.
func TestStartFailures(t *testing.T) {
	folder := t.TempDir()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	file := write("a-file", "x")
	for _, c := range []struct {
		name string
		args []string
		want string
	}{
		{"port in use", []string{"serve", "--listen", taken.Addr().String()}, "is in use, perhaps by a gate"},
		{"demo on a port in use", []string{"demo", "--listen", taken.Addr().String()}, "is in use"},
		{"nonsense address", []string{"serve", "--listen", "seven"}, "it must be an address and a port"},
		{"data folder below a file", []string{"serve", "--listen", "127.0.0.1:0", "--data", file + "/data"}, "not a directory"},
		{"data folder that nobody can write", []string{"serve", "--listen", "127.0.0.1:0", "--data", "/proc/kindred"}, "/proc/kindred"},
		{"configuration that is missing", []string{"serve", "--config", folder + "/none.yaml"}, "no such file"},
		{"configuration with an unknown key", []string{"serve", "--config", write("b.yaml", "listen: 127.0.0.1:0\nport: 7\n")}, `b.yaml: line 2, column 1: there is no setting "port"`},
		{"configuration of the wrong type", []string{"serve", "--config", write("c.yaml", "models: 7\n")}, "c.yaml: [1:9]"},
		{"unknown access", []string{"serve", "--access", "friends"}, "it must be keys or open"},
		{"open to others", []string{"serve", "--listen", "0.0.0.0:0", "--access", "open"}, "access is open, which is refused on 0.0.0.0:0"},
	} {
		var errOut bytes.Buffer
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute) // for one that starts
		cmd := exec.CommandContext(ctx, binary, c.args...)
		cmd.Env = Env(folder)
		cmd.Stderr = &errOut
		err := cmd.Run()
		cancel()
		var exit *exec.ExitError
		if !errors.As(err, &exit) || exit.ExitCode() != 1 || !strings.Contains(errOut.String(), c.want) || strings.Count(errOut.String(), "\n") != 1 {
			t.Errorf("%s: %v, %q; want one line with %q", c.name, err, errOut.String(), c.want)
		}
	}
}

// A gate without models, or with one that is damaged, runs and says so.
func TestDamagedModelIsToldOf(t *testing.T) {
	folder := t.TempDir()
	models := filepath.Join(folder, "models")
	raw, err := os.ReadFile("../demo/models/harbour-4m/harbour-4m.gguf")
	if err == nil {
		err = os.Mkdir(models, 0o755)
	}
	if err == nil {
		err = os.WriteFile(models+"/half.gguf", raw[:len(raw)/2], 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	g, err := Start(binary, folder, "serve", "--listen", "127.0.0.1:0", "--models", models)
	if err != nil {
		t.Fatal(err)
	}
	defer g.Stop()
	if out, _, code := run(t, g, "", "models", "list"); code != 0 || !strings.Contains(out, "arriving") {
		t.Errorf("models list, of a file that was written to just now: code %d, %q", code, out)
	}
	hourAgo := time.Now().Add(-time.Hour)
	if err := os.Chtimes(models+"/half.gguf", hourAgo, hourAgo); err != nil {
		t.Fatal(err)
	}
	if out, _, code := run(t, g, "", "models", "list"); code != 0 || !strings.Contains(out, "unusable: ") || !strings.Contains(out, "cut off or damaged") {
		t.Errorf("models list: code %d, %q", code, out)
	}
	if _, errOut, code := run(t, g, "", "ask", "--model", "half", "Hi"); code != 1 || !strings.Contains(errOut, `model "half" cannot be used`) {
		t.Errorf("ask: code %d, %q", code, errOut)
	}
	if err := os.WriteFile(models+"/half.gguf", raw, 0o644); err != nil {
		t.Fatal(err)
	}
	if out, errOut, code := run(t, g, "", "ask", "Hi"); code != 0 || out == "" {
		t.Errorf("after it was mended: code %d, %q", code, errOut)
	}
}

// On SIGTERM an answer under way is finished, and the gate ends well.
func TestStopFinishesAnswers(t *testing.T) {
	g := startDemo(t)
	req, err := http.NewRequest("POST", g.BaseURL+"/chat/completions",
		strings.NewReader(`{"model": "harbour-4m", "stream": true, "temperature": 0, "messages": [{"role": "user", "content": "Write a guide to Marrow Isle."}]}`))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+g.Key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if err := g.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	raw, err := io.ReadAll(resp.Body)
	if err != nil || !bytes.HasSuffix(raw, []byte("data: [DONE]\n\n")) || bytes.Count(raw, []byte("\n\n")) < 50 {
		t.Errorf("%v, the stream ends with %q", err, raw[max(0, len(raw)-200):])
	}
	if code, err := g.Wait(15 * time.Second); code != 0 || err != nil {
		t.Errorf("exit code %d, %v", code, err)
	}
	if _, errOut, code := run(t, g, "", "ask", "Hi"); code != 1 || !strings.Contains(errOut, "no gate is running here") {
		t.Errorf("ask after the stop: code %d, %q", code, errOut)
	}
}

// browse opens a page, and gives what does something on it, which is named if it fails.
func browse(t *testing.T) (tab context.Context, do func(what string, steps ...chromedp.Action[chromedp.Void])) {
	t.Helper()
	tab, cancel, err := Browser(t.Context(), t.TempDir(), 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cancel)
	tab, stop := context.WithTimeout(tab, 2*time.Minute)
	t.Cleanup(stop)
	return tab, func(what string, steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		for _, step := range steps {
			err := chromedp.Do(tab, step)
			// A page may replace what was found before something is done with it; nothing was done then.
			for tries := 1; err != nil && strings.Contains(err.Error(), "Could not find node with given id") && tries < 5; tries++ {
				err = chromedp.Do(tab, step)
			}
			if err != nil {
				t.Fatalf("%s: %v", what, err)
			}
		}
	}
}

// A person signs in with the owner key, asks, sees the text come, issues a key that works and revokes it.
func TestConsole(t *testing.T) {
	g := startDemo(t)
	tab, do := browse(t)
	type css = chromedp.CSS
	text := func(selector css) string {
		t.Helper()
		s, err := chromedp.Run(tab, chromedp.Text(selector))
		if err != nil {
			t.Fatalf("%s: %v", selector, err)
		}
		return s
	}

	do("a key that is none",
		chromedp.Navigate(strings.TrimSuffix(g.BaseURL, "v1")),
		chromedp.SendKeys(css("#owner-key"), g.Key+"\r"),
		chromedp.WaitVisible(css(`[role="alert"]`)))
	if got := text(`[role="alert"]`); !strings.Contains(got, "is a key for applications") {
		t.Errorf("an application's key is answered by %q", got)
	}
	do("sign in",
		chromedp.SendKeys(css("#owner-key"), g.Owner+"\r"),
		chromedp.WaitVisible(css(`[data-testid="base-url"]`)))
	if got := text(`[data-testid="base-url"]`); got != g.BaseURL {
		t.Errorf("the base URL is shown as %q", got)
	}
	for what, script := range map[string]string{"cookies": "document.cookie", "page": "document.documentElement.outerHTML", "store": "JSON.stringify(localStorage)"} {
		held, err := chromedp.Run(tab, chromedp.Evaluate[string](script))
		if err != nil || strings.Contains(held, g.Owner) || what == "cookies" && held != "" {
			t.Errorf("scripts can see in the %s: %.200q, %v", what, held, err)
		}
	}

	// What the page reads shows that the answer came in pieces. On the page itself they may be there before it is drawn once.
	do("ask",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/try"; window.pieces = 0; const read = ReadableStreamDefaultReader.prototype.read;
			ReadableStreamDefaultReader.prototype.read = async function () {
				const r = await read.call(this); if (typeof r.value === "string") window.pieces += r.value.split("data: {").length - 1; return r }`),
		chromedp.SendKeys(css("#question"), "When is the last boat to Osmer?"),
		chromedp.SendKeys(css("#temperature"), "0"),
		chromedp.Click(`//button[text()="Ask"]`),
		chromedp.WaitVisible(css(`[data-testid="figures"]`)))
	_, want := chatVector(t)
	if got := text(`[data-testid="answer"]`); got != want {
		t.Errorf("the answer is %q, want %q", got, want)
	}
	pieces, err := chromedp.Run(tab, chromedp.Evaluate[int](`window.pieces`))
	if err != nil || pieces < 5 {
		t.Errorf("the answer came in %d pieces, %v", pieces, err)
	}

	do("the same in every style",
		chromedp.Click(`//button[text()="Ask in every style"]`),
		chromedp.WaitVisible(`(//*[@data-testid="figures"])[4]`))
	said, err := chromedp.Run(tab, chromedp.Evaluate[[]string](`[...document.querySelectorAll('[data-testid="answer"]')].map(a => a.textContent)`))
	if err != nil || len(said) != 4 || said[0] != want || said[1] != want || said[2] != want || said[3] == "" {
		t.Errorf("the styles say %q, %v", said, err)
	}
	do("the events",
		chromedp.Click(css(`[role="tab"][id$="trigger-events"]`)),
		chromedp.WaitVisible(`(//*[@data-testid="events"])[4]`))
	lines, err := chromedp.Run(tab, chromedp.Evaluate[[]string](`[...document.querySelectorAll('[data-testid="events"]')].map(e => e.lastElementChild.textContent)`))
	if err != nil || len(lines) != 4 || lines[0] != "data: [DONE]" || lines[2] != "data: [DONE]" {
		t.Errorf("the events end with %q, %v", lines, err)
	}
	do("the snippet",
		chromedp.Click(`//button[text()="Response"]`),
		chromedp.Click(css(`[role="tab"][id$="trigger-snippet"]`)),
		chromedp.WaitVisible(`//*[@data-testid="snippet"][contains(text(), "/v1/responses")]`))
	if got := text(`[data-testid="snippet"]`); !strings.Contains(got, "$KINDRED_KEY") || !strings.Contains(got, `"input": "When is the last boat to Osmer?"`) || strings.Contains(got, g.Owner) {
		t.Errorf("the snippet is %q", got)
	}

	do("the traffic, which comes by itself",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/traffic"`),
		chromedp.WaitVisible(`(//*[@data-testid="exchanges"]//td[text()="console"])[5]`))
	if _, errOut, code := run(t, g, "", "ask", "--key", g.Key, "--model", "harbour-4m", "And to Quillay?"); code != 0 {
		t.Fatal(errOut)
	}
	do("an application's exchange, with where its time went",
		chromedp.WaitVisible(`//*[@data-testid="exchanges"]//tr[1]//td[text()="demo application"]`),
		chromedp.Click(`//*[@data-testid="exchanges"]//tbody/tr[1]//a`),
		chromedp.WaitVisible(`//li[contains(., "Decode")]`),
		chromedp.Click(`//button[text()="Close"]`))

	do("the prompt, with a control token that is typed",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/prompt"`),
		chromedp.SendKeys(css(`[aria-label="Text of turn 2"]`), "<|end|>"),
		chromedp.WaitVisible(`//*[@data-testid="prompt"]/span[contains(text(), "<|end|>How long")]`))
	if got := text(`[data-testid="prompt"]`); !strings.HasPrefix(got, "<|begin|><|system|>You are a cheerful") || !strings.HasSuffix(got, "<|assistant|>") {
		t.Errorf("the prompt is shown as %q", got)
	}

	do("add a preset",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/models"`),
		chromedp.Click(`//button[text()="Add a preset"]`),
		chromedp.SendKeys(css("#preset-name"), "master"),
		chromedp.SendKeys(css("#preset-instructions"), "You are a cheerful harbour master."),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Add"]`),
		chromedp.WaitVisible(css(`[aria-label="Remove master"]`)))
	if status, raw := post(t, g, g.Key, `{"model": "master", "max_tokens": 1, "messages": [{"role": "user", "content": "Hi"}]}`); status != 200 {
		t.Errorf("the preset from the console: %d %s", status, raw)
	}
	do("remove it",
		chromedp.Click(css(`[aria-label="Remove master"]`)),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Remove"]`),
		chromedp.WaitNotPresent(css(`[aria-label="Remove master"]`)))

	folder, err := filepath.Abs("../internal/model/testdata/reference/qwen3/hf")
	if err != nil {
		t.Fatal(err)
	}
	do("add a model, of which there is none",
		chromedp.Click(`//button[text()="Add a model"]`),
		chromedp.SendKeys(css("#model-source"), folder+"/none"),
		chromedp.SendKeys(css("#model-name"), "reef\r"),
		chromedp.WaitVisible(css(`[role="dialog"] [role="alert"]`)))
	if got := text(`[role="dialog"] [role="alert"]`); !strings.Contains(got, folder+"/none") {
		t.Errorf("a folder that is not there is answered by %q", got)
	}
	do("add one that is there, and load it",
		chromedp.SendKeys(css("#model-source"), strings.Repeat(kb.Backspace, len("/none"))+"\r"),
		chromedp.WaitNotPresent(css(`[role="dialog"]`)),
		chromedp.Click(css(`[aria-label="Load reef"]`)),
		chromedp.WaitVisible(css(`[aria-label="Unload reef"]`)))
	if status, raw := post(t, g, g.Key, `{"model": "reef", "max_tokens": 1, "messages": [{"role": "user", "content": "Hi"}]}`); status != 200 {
		t.Errorf("the model from the console: %d %s", status, raw)
	}
	do("remove it, which leaves its files",
		chromedp.Click(css(`[aria-label="Remove reef"]`)),
		chromedp.WaitVisible(`//*[@role="dialog"]//button[text()="Remove it"]`))
	do("remove it",
		chromedp.Click(`//*[@role="dialog"]//button[text()="Remove it"]`),
		chromedp.WaitNotPresent(css(`[aria-label="Remove reef"]`)))
	if _, err := os.Stat(folder + "/config.json"); err != nil {
		t.Error(err)
	}

	do("issue a key",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/keys"`),
		chromedp.Click(`//button[text()="Issue a key"]`),
		chromedp.SendKeys(css("#label"), "board\r"),
		chromedp.WaitVisible(css(`[data-testid="issued-key"]`)))
	key := text(`[data-testid="issued-key"]`)
	const body = `{"model": "harbour-4m", "max_tokens": 1, "messages": [{"role": "user", "content": "Hi"}]}`
	if status, raw := post(t, g, key, body); status != 200 {
		t.Errorf("the key from the console: %d %s", status, raw)
	}
	do("revoke it",
		chromedp.Click(`//button[text()="I have it"]`),
		chromedp.Click(css(`[aria-label="Revoke board"]`)),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Revoke"]`),
		chromedp.WaitNotPresent(css(`[role="dialog"]`)))
	if status, _ := post(t, g, key, body); status != 401 {
		t.Errorf("the revoked key: %d", status)
	}
	do("sign out",
		chromedp.Click(`//button[text()="Menu"]`),
		chromedp.Click(`//*[@role="menuitem"][text()="Sign out"]`),
		chromedp.WaitVisible(css("#owner-key")))
}

// BenchmarkFirstAnswer is the time from the start of the demo's process to its first whole answer.
func BenchmarkFirstAnswer(b *testing.B) {
	for b.Loop() {
		g, err := Start(binary, b.TempDir(), "demo", "--listen", "127.0.0.1:0")
		if err != nil {
			b.Fatal(err)
		}
		if status, raw := post(b, g, g.Key, `{"model": "harbour-4m", "messages": [{"role": "user", "content": "When is the last boat to Osmer?"}]}`); status != 200 {
			b.Fatal(raw)
		}
		b.StopTimer()
		if err := g.Stop(); err != nil {
			b.Fatal(err)
		}
		b.StartTimer()
	}
}

// A gate that is to run on kernels that the processor has no instructions for does not start, and says which there are.
func TestKernelsThatThereAreNot(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second) // it would run on if it started
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, "demo", "--listen", "127.0.0.1:0")
	cmd.Env = append(Env(t.TempDir()), "KINDRED_KERNELS=fast")
	out, err := cmd.CombinedOutput()
	if exit := (*exec.ExitError)(nil); !errors.As(err, &exit) || exit.ExitCode() != 1 || !strings.Contains(string(out), `KINDRED_KERNELS is "fast"; this processor can use go`) {
		t.Errorf("%v, %s", err, out)
	}
}
