package mcp

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	sdk "github.com/modelcontextprotocol/go-sdk/mcp"

	"kindredgate/internal/tool"
	"kindredgate/internal/tool/web"
)

// The test's program is also the servers that it starts: which one, says a variable.
func TestMain(m *testing.M) {
	if mode := os.Getenv("MODE"); mode != "" {
		be(mode)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

const object = `{"type": "object", "properties": {"zebra": {"type": "string"}, "apple": {"type": "integer"}}}`

// good is a server that does what the protocol wants.
func good() *sdk.Server {
	s := sdk.NewServer(&sdk.Implementation{Name: "test", Version: "1"}, nil)
	say := func(name string, do func(ctx context.Context, req *sdk.CallToolRequest) (*sdk.CallToolResult, error)) {
		s.AddTool(&sdk.Tool{Name: name, Description: "does " + name, Annotations: &sdk.ToolAnnotations{ReadOnlyHint: name == "echo", Title: "Title of " + name}, InputSchema: json.RawMessage(object)}, do)
	}
	text := func(s string) *sdk.CallToolResult {
		return &sdk.CallToolResult{Content: []sdk.Content{&sdk.TextContent{Text: s}}}
	}
	say("echo", func(_ context.Context, req *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return text(string(req.Params.Arguments)), nil
	})
	say("environment", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		folder, err := os.Getwd()
		return text(strings.Join(os.Environ(), "\n") + "\n" + folder), err
	})
	say("slow", func(ctx context.Context, _ *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	say("fails", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return &sdk.CallToolResult{IsError: true, Content: []sdk.Content{&sdk.TextContent{Text: "no boat today"}}}, nil
	})
	say("mixed", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return &sdk.CallToolResult{Content: []sdk.Content{&sdk.TextContent{Text: "one"}, &sdk.ImageContent{MIMEType: "image/png", Data: []byte("12345")},
			&sdk.AudioContent{MIMEType: "audio/wav", Data: []byte("1")}, &sdk.ResourceLink{URI: "file:///plan", Name: "plan"}, &sdk.EmbeddedResource{Resource: &sdk.ResourceContents{URI: "file:///a", Text: "inside"}}}}, nil
	})
	say("structured", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return &sdk.CallToolResult{StructuredContent: map[string]any{"fare": 8}}, nil
	})
	say("change", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		say("later", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) { return text("later"), nil })
		return text("changed"), nil
	})
	say("asks", func(ctx context.Context, req *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		var declined []string
		if _, err := req.Session.Elicit(ctx, &sdk.ElicitParams{Message: "your name?", RequestedSchema: json.RawMessage(`{"type":"object"}`)}); err != nil {
			declined = append(declined, "elicitation")
		}
		//lint:ignore SA1019 servers still ask for it
		if _, err := req.Session.CreateMessage(ctx, &sdk.CreateMessageParams{MaxTokens: 5}); err != nil {
			declined = append(declined, "sampling")
		}
		//lint:ignore SA1019 servers still ask for them
		if roots, err := req.Session.ListRoots(ctx, nil); err == nil && len(roots.Roots) > 0 {
			declined = append(declined, "but gives roots")
		}
		return text(strings.Join(declined, ", ")), nil
	})
	say("dies", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		fmt.Fprintln(os.Stderr, "out of coal")
		os.Exit(3)
		return nil, nil
	})
	return s
}

// be is one of the servers.
func be(mode string) {
	if mode == "good" {
		_ = good().Run(context.Background(), &sdk.StdioTransport{}) // it ends with its input
		return
	}
	answer := func(id any, result string) { fmt.Printf(`{"jsonrpc":"2.0","id":%v,"result":%s}`+"\n", id, result) }
	fmt.Fprintln(os.Stderr, "this is", mode)
	switch mode {
	case "exits":
		os.Exit(7)
	case "garbage":
		fmt.Println("Welcome aboard!")
	case "early":
		answer(99, `{}`)
	}
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		var req struct {
			ID     *int
			Method string
			Params struct{ ProtocolVersion string }
		}
		if json.Unmarshal(lines.Bytes(), &req) != nil || req.ID == nil {
			continue
		}
		id := *req.ID
		switch {
		case mode == "hangs":
		case req.Method == "initialize":
			answer(id, fmt.Sprintf(`{"protocolVersion":%q,"capabilities":{"tools":{}},"serverInfo":{"name":"x","version":"1"}}`, req.Params.ProtocolVersion))
		case req.Method == "tools/list":
			answer(id, `{"tools":[`+listOf(mode)+`]}`)
		case req.Method == "tools/call" && mode == "other id":
			answer(id+1000, `{"content":[]}`)
		case req.Method == "tools/call" && mode == "endless":
			fmt.Printf(`{"jsonrpc":"2.0","id":%d,"result":{"content":[{"type":"text","text":"`, id)
			for range 1 << 20 { // a gigabyte, if it were read
				if _, err := io.WriteString(os.Stdout, strings.Repeat("x", 1024)); err != nil {
					return
				}
			}
		case req.Method == "tools/call" && mode == "not utf-8":
			answer(id, "{\"content\":[{\"type\":\"text\",\"text\":\"a\xff\xfeb\"}]}")
		default:
			fmt.Printf(`{"jsonrpc":"2.0","id":%d,"error":{"code":-32601,"message":"there is no %s here"}}`+"\n", id, req.Method)
		}
	}
}

func listOf(mode string) string {
	one := func(name, schema string) string {
		return fmt.Sprintf(`{"name":%q,"inputSchema":%s}`, name, schema)
	}
	fine := one("fine", `{"type":"object"}`)
	switch mode {
	case "twice":
		return fine + "," + one("fine", `{"type":"object"}`)
	case "many":
		var list []string
		for i := range 10_000 {
			list = append(list, one(fmt.Sprint("tool", i), `{"type":"object"}`))
		}
		return strings.Join(list, ",")
	case "long schema":
		return fine + "," + one("long", `{"type":"object","description":"`+strings.Repeat("x", 5<<20)+`"}`)
	case "bad schema":
		return fine + "," + one("bad", `{"type":"array"}`) + "," + one("none", `true`)
	case "bad name":
		return fine + "," + one("<|end|>", `{"type":"object"}`) + "," + one("", `{"type":"object"}`)
	}
	return fine
}

// command makes a server of this test's program.
func command(t *testing.T, mode string, change ...func(*Options)) *Server {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	o := Options{Command: []string{self, "-test.run=^$"}, Env: map[string]string{"MODE": mode}, Start: 5 * time.Second}
	for _, c := range change {
		c(&o)
	}
	s := New(o, "1", slog.New(slog.DiscardHandler))
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}

func limits() tool.Limits { return tool.Limits{Time: 5 * time.Second, Result: 1 << 10} }

// call calls a tool of a server that lists it.
func call(t *testing.T, s *Server, name, arguments string) tool.Result {
	t.Helper()
	return tool.Call(t.Context(), s, tool.Tool{Name: name, Schema: json.RawMessage(object)}, arguments, limits())
}

// The same server, over standard input and output and over HTTP, says the same.
func TestServers(t *testing.T) {
	keys := make(chan string, 100)
	handler := sdk.NewStreamableHTTPHandler(func(*http.Request) *sdk.Server { return good() }, nil)
	reached := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case keys <- r.Header.Get("Authorization"):
		default:
		}
		handler.ServeHTTP(w, r)
	}))
	defer reached.Close()
	over := New(Options{URL: reached.URL, Headers: map[string]string{"Authorization": "Bearer harbour-secret"}}, "1", slog.New(slog.DiscardHandler))
	defer over.Close()
	for name, s := range map[string]*Server{"stdio": command(t, "good"), "http": over} {
		t.Run(name, func(t *testing.T) {
			if st := s.Status(); st.State != tool.Stopped || st.Kind != name {
				t.Errorf("before it is needed it is %+v", st)
			}
			list, err := s.Tools(t.Context())
			if err != nil || len(list) != 9 {
				t.Fatalf("%d tools, %v", len(list), err)
			}
			for _, one := range list {
				if string(one.Schema) == "" || !strings.Contains(string(one.Schema), `{"zebra":{"type":"string"},"apple"`) || one.ReadOnly != (one.Name == "echo") || one.Title != "Title of "+one.Name {
					t.Errorf("%s: schema %s, read only %v, title %q", one.Name, one.Schema, one.ReadOnly, one.Title)
				}
			}
			for _, c := range []struct{ name, arguments, text, failure string }{
				{"echo", `{"zebra": "<|end|>"}`, `{"zebra":"<|end|>"}`, ""},
				{"fails", `{}`, "Error: no boat today", "tool_execution_error: no boat today"},
				{"mixed", `{}`, "one\n[a picture (image/png, 5 bytes), which is not shown]\n[a recording (audio/wav, 1 bytes), which is not played]\n[plan: file:///plan ]\ninside", ""},
				{"structured", `{}`, `{"fare":8}`, ""},
				{"asks", `{}`, "elicitation, sampling", ""},
				{"nothing", `{}`, "", `protocol_error: unknown tool "nothing"`},
				{"echo", `{"apple": "red"}`, "", "tool_execution_error: the arguments are not valid by the tool's schema: at '/apple': got string, want integer"},
				{"echo", `[1]`, "", "tool_execution_error: the arguments are no JSON object"},
			} {
				r := call(t, s, c.name, c.arguments)
				failure := ""
				if r.Failure != nil {
					failure = string(r.Failure.Kind) + ": " + r.Failure.Message
				}
				if failure != c.failure || c.text != "" && r.Text != c.text {
					t.Errorf("%s %s: %q, %q", c.name, c.arguments, r.Text, failure)
				}
			}
			if st := s.Status(); st.State != tool.Running {
				t.Errorf("it is %+v", st)
			}
			// A call that is given up leaves the session as it is.
			ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
			begun := time.Now()
			r := tool.Call(ctx, s, tool.Tool{Name: "slow", Schema: json.RawMessage(object)}, "{}", limits())
			cancel()
			if r.Failure == nil || time.Since(begun) > 2*time.Second {
				t.Errorf("%+v after %s", r, time.Since(begun))
			}
			if r := call(t, s, "change", `{}`); r.Text != "changed" {
				t.Errorf("%+v", r)
			}
			for deadline := time.Now().Add(5 * time.Second); ; {
				list, err = s.Tools(t.Context())
				if err == nil && len(list) == 10 {
					break
				}
				if time.Now().After(deadline) {
					t.Fatalf("a list that has changed has %d tools, %v", len(list), err)
				}
				runtime.Gosched()
			}
		})
	}
	select {
	case key := <-keys:
		if key != "Bearer harbour-secret" {
			t.Errorf("the key came as %q", key)
		}
	default:
		t.Error("the server over HTTP was not asked")
	}
}

// No shell is in between, and the environment is what was named, and PATH.
func TestEnvironment(t *testing.T) {
	t.Setenv("HARBOUR_SECRET", "not for tools")
	folder := t.TempDir()
	s := command(t, "good", func(o *Options) { o.Env["BERTH"] = "$HOME; 7"; o.Folder = folder })
	r := tool.Call(t.Context(), s, tool.Tool{Name: "environment", Schema: json.RawMessage(object)}, "{}", tool.Limits{Time: 5 * time.Second, Result: 1 << 20})
	want := []string{"PATH=" + os.Getenv("PATH"), "BERTH=$HOME; 7", "MODE=good", folder}
	var got []string
	for line := range strings.Lines(r.Text) {
		if line = strings.TrimSpace(line); !strings.HasPrefix(line, "GOCOVERDIR=") {
			got = append(got, line)
		}
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q, not %q", got, want)
	}
}

// Whatever a server does, the gate gets a clear error in time, and no more than it can hold.
func TestServersThatAreWrong(t *testing.T) {
	for _, c := range []struct{ mode, tools, problem, skipped, called string }{
		{mode: "exits", problem: "exit status 7"},
		{mode: "garbage", problem: "invalid character"},
		{mode: "hangs", problem: "it was not ready within 1s"},
		{mode: "early", tools: "fine"},
		{mode: "twice", tools: "fine", skipped: `a second tool of the name "fine"`},
		{mode: "many", tools: "tool0 … 256", skipped: "beyond the first 256"},
		{mode: "long schema", tools: "fine", skipped: "the schema of long has 5242"},
		{mode: "bad schema", tools: "fine", skipped: "the schema of bad is of type"},
		{mode: "bad name", tools: "fine", skipped: `the name "<|end|>"`},
		{mode: "other id", tools: "fine", called: "took too long"},
		{mode: "endless", tools: "fine", called: "exceed"},
		{mode: "not utf-8", tools: "fine", called: "a\uFFFD\uFFFDb"},
		{mode: "no calls", tools: "fine", called: "there is no tools/call here"},
	} {
		t.Run(c.mode, func(t *testing.T) {
			t.Parallel()
			s := command(t, c.mode, func(o *Options) {
				if c.mode == "hangs" {
					o.Start = time.Second
				}
			})
			list, err := s.Tools(t.Context())
			names := ""
			if len(list) > 0 {
				if names = list[0].Name; len(list) > 1 {
					names = fmt.Sprintf("%s … %d", names, len(list))
				}
			}
			st := s.Status()
			if names != c.tools || (err != nil) != (c.problem != "") || err != nil && !strings.Contains(err.Error(), c.problem) || !strings.Contains(strings.Join(st.Skipped, "\n"), c.skipped) {
				t.Fatalf("%q, %v, skipped %q", names, err, st.Skipped)
			}
			if err != nil && (st.State != tool.Down || len(st.Tail) != 1 || st.Tail[0] != "this is "+c.mode) {
				t.Errorf("its status is %+v", st)
			}
			if c.called == "" {
				return
			}
			r := tool.Call(t.Context(), s, list[0], "{}", tool.Limits{Time: time.Second, Result: 1 << 10})
			if !strings.Contains(r.Text, c.called) {
				t.Errorf("a call gives %q, %+v", r.Text, r.Failure)
			}
		})
	}
}

// A server that dies is started again, after pauses that grow; what it wrote last is kept.
func TestServersThatDie(t *testing.T) {
	s := command(t, "good")
	last := time.Duration(0)
	for range 2 {
		if r := call(t, s, "dies", "{}"); r.Failure == nil || r.Failure.Kind != tool.Protocol {
			t.Errorf("%+v", r)
		}
		r := call(t, s, "echo", "{}")
		if r.Failure == nil || !strings.Contains(r.Failure.Message, "it is started again in") {
			t.Errorf("at once: %+v", r)
		}
		if st := s.Status(); st.State != tool.Down || !strings.HasSuffix(strings.Join(st.Tail, ""), "out of coal") {
			t.Errorf("%+v", st)
		}
		s.mu.Lock()
		if s.pause <= last {
			t.Errorf("a pause of %s after one of %s", s.pause, last)
		}
		last, s.next = s.pause, time.Time{}
		s.mu.Unlock()
	}
	r := call(t, s, "echo", `{"apple": 1}`)
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.Failure != nil || s.pause != 0 {
		t.Errorf("started again: %+v, next pause %s", r, s.pause)
	}
}

// One that is not used ends, and starts again with the next call; none is left when it is closed.
func TestIdleServers(t *testing.T) {
	s := command(t, "good", func(o *Options) { o.Idle = 50 * time.Millisecond })
	for range 2 {
		if r := call(t, s, "echo", `{}`); r.Failure != nil {
			t.Fatalf("%+v", r)
		}
		for deadline := time.Now().Add(10 * time.Second); s.Status().State != tool.Stopped; {
			if time.Now().After(deadline) {
				t.Fatalf("it is %+v", s.Status())
			}
			runtime.Gosched()
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if r := call(t, s, "echo", `{}`); r.Failure == nil || !strings.Contains(r.Failure.Message, "taken out") {
		t.Errorf("after its end: %+v", r)
	}
}

// A server elsewhere may not lead to another host, nor, if a request has named it, to a private address.
func TestWhereServersMayLead(t *testing.T) {
	inside := httptest.NewServer(sdk.NewStreamableHTTPHandler(func(*http.Request) *sdk.Server { return good() }, nil))
	defer inside.Close()
	leads := httptest.NewServer(http.RedirectHandler(inside.URL, http.StatusTemporaryRedirect))
	defer leads.Close()
	refuses := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Error(w, "who is "+r.Header.Get("Authorization")+"?", http.StatusUnauthorized)
	}))
	defer refuses.Close()
	for _, c := range []struct {
		url   string
		guard web.Guard
		want  string
	}{
		{inside.URL, web.Named, ""},
		{inside.URL, web.Private, ""},
		{inside.URL, web.Public, "not an address that tools may be called at"},
		{strings.Replace(inside.URL, "127.0.0.1", "localhost", 1), web.Public, "not an address that tools may be called at"},
		{"http://169.254.169.254/mcp", web.Private, "not an address that tools may be called at"},
		{"http://[64:ff9b::7f00:1]/mcp", web.Public, "not an address that tools may be called at"},
		{leads.URL, web.Named, "it redirects to"},
		{refuses.URL, web.Named, "Unauthorized"},
	} {
		s := New(Options{URL: c.url, Guard: c.guard, Start: 5 * time.Second, Headers: map[string]string{"Authorization": "Bearer harbour-secret"}}, "1", slog.New(slog.DiscardHandler))
		_, err := s.Tools(t.Context())
		if (err == nil) != (c.want == "") || err != nil && (!strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "harbour-secret") || strings.Contains(s.Status().Error, "harbour-secret")) {
			t.Errorf("%s: %v, not %q", c.url, err, c.want)
		}
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	}
}

// Many calls that are cancelled leave neither goroutines nor processes behind.
func TestNothingIsLeft(t *testing.T) {
	before := runtime.NumGoroutine()
	s := command(t, "good")
	if r := call(t, s, "echo", `{}`); r.Failure != nil {
		t.Fatalf("%+v", r)
	}
	for range 200 {
		ctx, cancel := context.WithCancel(t.Context())
		go cancel()
		if r := tool.Call(ctx, s, tool.Tool{Name: "slow", Schema: json.RawMessage(object)}, "{}", limits()); r.Failure == nil {
			t.Fatalf("%+v", r)
		}
		cancel()
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(10 * time.Second); runtime.NumGoroutine() > before; {
		if time.Now().After(deadline) {
			buf := make([]byte, 1<<16)
			t.Fatalf("%d goroutines, %d before\n%s", runtime.NumGoroutine(), before, buf[:runtime.Stack(buf, true)])
		}
		runtime.Gosched()
	}
}

func FuzzSaw(f *testing.F) {
	f.Add([]byte(`data: {"result":{"tools":[{"name":"x","inputSchema":{"b":1,"a":2}}]}}` + "\n"))
	f.Add([]byte("\"inputSchema\"\n\n{"))
	f.Fuzz(func(t *testing.T, sent []byte) {
		var o order
		w := &watched{ReadCloser: io.NopCloser(strings.NewReader(string(sent))), order: &o}
		got, err := io.ReadAll(w)
		if err != nil && !errors.Is(err, io.EOF) || string(got) != string(sent) {
			t.Fatalf("%q became %q, %v", sent, got, err)
		}
	})
}
