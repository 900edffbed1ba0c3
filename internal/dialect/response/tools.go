package response

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Types of items and tools that are about servers of the Model Context Protocol.
const (
	serverType   = "mcp"
	listType     = "mcp_list_tools"
	callType     = "mcp_call"
	approvalType = "mcp_approval_request"
	decisionType = "mcp_approval_response"
)

// hostedTypes are the standard's types of tools that the one who offers this endpoint runs, each by the name under which an operator can have a
// tool of theirs serve it.
var hostedTypes = map[string]string{
	"web_search": "web_search", "web_search_2025_08_26": "web_search", "web_search_preview": "web_search", "web_search_preview_2025_03_11": "web_search",
	"file_search": "file_search", "code_interpreter": "code_interpreter", "image_generation": "image_generation",
	"computer": "computer", "computer_use": "computer", "computer_use_preview": "computer", "local_shell": "shell", "shell": "shell", "apply_patch": "apply_patch",
}

// server reads a tool that is a server of tools, and reports whether its type is known.
func (c *Call) server(kind string, t *field.Object) bool {
	at := strings.TrimSuffix(t.Path("type"), ".type")
	if as, ok := hostedTypes[kind]; ok {
		c.Servers = append(c.Servers, exchange.ToolServer{Type: as, At: at})
		for _, name := range t.Unread() {
			t.Ignore(name) // what it says is for who has that tool
		}
		return true
	}
	if kind != serverType {
		return false
	}
	s := exchange.ToolServer{At: at}
	wire.Refuse(t,
		wire.Elsewhere{Name: "connector_id", Instead: "connectors are services of others; name one of the gate's servers by server_label, or one at a server_url that the operator allows"},
		wire.Elsewhere{Name: "tunnel_id", Instead: "there are no tunnels here; name one of the gate's servers by server_label, or one at a server_url that the operator allows"},
	)
	if s.Label, _ = t.String("server_label"); s.Label == "" {
		t.Fail("server_label", "%s is missing: the name of one of the gate's servers, or any name for one at a server_url", t.Path("server_label"))
	}
	s.Description, _ = t.String("server_description")
	s.URL, _ = t.String("server_url")
	s.Headers = t.Texts("headers", mostHeaders)
	if key, ok := t.String("authorization"); ok {
		if s.Headers == nil {
			s.Headers = map[string]string{}
		}
		s.Headers["Authorization"] = "Bearer " + strings.TrimPrefix(key, "Bearer ")
	}
	if s.URL == "" && len(s.Headers) > 0 {
		t.Fail("server_url", "%s is missing: headers and authorization go with it; a server of the gate's has its own", t.Path("server_url"))
	}
	switch t.Kind("allowed_tools") {
	case field.Missing:
	case field.List:
		s.Tools = append([]string{}, t.Strings("allowed_tools")...)
	default:
		if filter := t.Object("allowed_tools"); filter != nil {
			s.ReadOnly = filter.Bool("read_only")
			if _, said := filter.Raw("tool_names"); said {
				s.Tools = append([]string{}, filter.Strings("tool_names")...)
			}
		}
	}
	s.Approve = approve(t)
	t.Ignore("defer_loading", "allowed_callers")
	c.Servers = append(c.Servers, s)
	return true
}

// mostHeaders bounds the headers for a server.
const mostHeaders = 16

// approve reads which calls have to be approved: all, as the standard has it, unless it is said otherwise.
func approve(t *field.Object) (a exchange.Approve) {
	const name = "require_approval"
	a.All = true
	switch t.Kind(name) {
	case field.Missing:
	case field.Text:
		a.All = t.OneOf(name, "always", "never") == "always"
	default:
		said := t.Object(name)
		if said == nil {
			return a
		}
		read := func(which string) (names []string, readOnly *bool) {
			filter := said.Object(which)
			if filter == nil {
				return nil, nil
			}
			if _, ok := filter.Raw("read_only"); ok {
				is := filter.Bool("read_only")
				readOnly = &is
			}
			return filter.Strings("tool_names"), readOnly
		}
		a.Always, a.AlwaysReadOnly = read("always")
		a.Never, a.NeverReadOnly = read("never")
	}
	return a
}

// chosen is the name of a tool of a server in a choice: SERVER, or SERVER/TOOL.
func (c *Call) chosen(kind string, o *field.Object) (name string, ok bool) {
	if as, hosted := hostedTypes[kind]; hosted {
		return as, true
	}
	if kind != serverType {
		return "", false
	}
	label, _ := o.String("server_label")
	if !slices.ContainsFunc(c.Servers, func(s exchange.ToolServer) bool { return s.Label == label }) {
		o.Fail("server_label", "%s is %q, which is not among the servers in tools", o.Path("server_label"), label)
	}
	if one, said := o.String("name"); said {
		return label + "/" + one, true
	}
	return label, true
}

// choose has the servers offer no more than the choice of tools leaves.
func (c *Call) choose(o *field.Object) {
	const at = "tool_choice"
	if o.Kind(at) == field.Text {
		if text, _ := o.String(at); text == "none" {
			c.Servers = nil
		}
		return
	}
	choice := o.Object(at)
	if choice == nil {
		return
	}
	if kind, _ := choice.String("type"); kind != "allowed_tools" || c.Choice.Names == nil {
		return
	}
	names := c.Choice.Names
	c.Choice.Names = nil
	c.Servers = slices.DeleteFunc(c.Servers, func(s exchange.ToolServer) bool {
		called := s.Label
		if s.Type != "" {
			called = s.Type
		}
		return !slices.ContainsFunc(names, func(n string) bool { return n == called || strings.HasPrefix(n, called+"/") })
	})
	for i, s := range c.Servers {
		if slices.Contains(names, s.Label) || s.Type != "" {
			continue
		}
		only := []string{}
		for _, n := range names {
			if one, ok := strings.CutPrefix(n, s.Label+"/"); ok && (s.Tools == nil || slices.Contains(s.Tools, one)) {
				only = append(only, one)
			}
		}
		c.Servers[i].Tools = only
	}
}

// withoutSecrets is a tool as its response repeats it: without what only its server has to know.
func withoutSecrets(raw json.RawMessage) json.RawMessage {
	var fields map[string]json.RawMessage
	if json.Unmarshal(raw, &fields) != nil {
		return raw // what is wrong with it is said elsewhere
	}
	delete(fields, "headers")
	delete(fields, "authorization")
	var address string
	if json.Unmarshal(fields["server_url"], &address) == nil && address != "" {
		u, err := url.Parse(address)
		if err != nil {
			u = &url.URL{}
		}
		fields["server_url"] = marshal((&url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}).String())
	}
	return marshal(fields)
}

// ListTools is an item: what a server offers.
type ListTools struct {
	Type   string       `json:"type"` // "mcp_list_tools"
	ID     string       `json:"id"`
	Server string       `json:"server_label"`
	Tools  []ListedTool `json:"tools"`
	Error  *string      `json:"error"`
}

// ListedTool is a tool of a server.
type ListedTool struct {
	Name        string          `json:"name"`
	Description *string         `json:"description"`
	InputSchema json.RawMessage `json:"input_schema"`
	Annotations *annotations    `json:"annotations"`
}

// annotations are what a server says of a tool, in its protocol's words.
type annotations struct {
	Title    string `json:"title,omitempty"`
	ReadOnly bool   `json:"readOnlyHint"`
}

// ServerCall is an item: a call that the gate has run.
type ServerCall struct {
	Type      string  `json:"type"` // "mcp_call"
	ID        string  `json:"id"`
	Status    Status  `json:"status"`
	Approval  *string `json:"approval_request_id"`
	Server    string  `json:"server_label"`
	Name      string  `json:"name"`
	Arguments string  `json:"arguments"`
	Output    *string `json:"output"`
	// Error is null, or a text: a JSON object with type (protocol_error, http_error or tool_execution_error), code and message.
	Error *string `json:"error"`
}

// ApprovalRequest is an item: a call that somebody has to approve first.
type ApprovalRequest struct {
	Type      string `json:"type"` // "mcp_approval_request"
	ID        string `json:"id"`
	Server    string `json:"server_label"`
	Name      string `json:"name"`
	Arguments string `json:"arguments"`
}

// openRun is a call that the gate runs, until it has ended.
type openRun struct {
	item *ServerCall
	at   int // in the output
	text strings.Builder
}

// listed tells what a server offers.
func (w *Writer) listed(e exchange.ToolsListed) {
	w.close(completed)
	item := &ListTools{Type: listType, ID: w.newID("mcpl"), Server: e.Server, Tools: []ListedTool{}}
	w.open(item)
	w.send("response.mcp_list_tools.in_progress", payload{OutputIndex: w.last(), ItemID: item.ID})
	for _, t := range e.Tools {
		item.Tools = append(item.Tools, ListedTool{t.Name, &t.Description, t.Schema, &annotations{t.Title, t.ReadOnly}})
	}
	done := "response.mcp_list_tools.completed"
	if e.Error != "" {
		item.Error, done = &e.Error, "response.mcp_list_tools.failed"
	}
	w.send(done, payload{OutputIndex: w.last(), ItemID: item.ID})
	w.send("response.output_item.done", payload{OutputIndex: w.last(), Item: item})
}

// runDelta takes a piece of a call that the gate runs.
func (w *Writer) runDelta(e exchange.RunDelta) {
	for len(w.runs) <= e.Index {
		w.runs = append(w.runs, nil)
	}
	if e.Name != "" {
		w.close(completed)
		r := &openRun{item: &ServerCall{Type: callType, ID: w.newID("mcp"), Status: inProgress, Server: e.Server, Name: e.Name}, at: len(w.resp.Output)}
		if e.Approval != "" {
			r.item.Approval = &e.Approval
		}
		w.runs[e.Index] = r
		w.open(r.item)
		w.send("response.mcp_call.in_progress", payload{OutputIndex: &r.at, ItemID: r.item.ID})
	}
	r := w.runs[e.Index]
	if r == nil {
		return
	}
	if e.Arguments != "" {
		r.text.WriteString(e.Arguments)
		w.send("response.mcp_call_arguments.delta", payload{OutputIndex: &r.at, ItemID: r.item.ID, Delta: &e.Arguments})
	}
	if e.Done {
		r.item.Arguments, r.item.Status = r.text.String(), calling
		w.send("response.mcp_call_arguments.done", payload{OutputIndex: &r.at, ItemID: r.item.ID, Arguments: &r.item.Arguments})
	}
}

// runEnded closes a call with what it gave.
func (w *Writer) runEnded(e exchange.RunEnded) {
	if e.Index >= len(w.runs) || w.runs[e.Index] == nil {
		return
	}
	r := w.runs[e.Index]
	kind := "response.mcp_call.completed"
	if r.item.Status = completed; e.Failure != nil {
		said := string(marshal(e.Failure))
		r.item.Error, r.item.Status, kind = &said, failed, "response.mcp_call.failed"
	} else {
		r.item.Output = &e.Output
	}
	w.runs[e.Index] = nil
	w.send(kind, payload{OutputIndex: &r.at, ItemID: r.item.ID})
	w.send("response.output_item.done", payload{OutputIndex: &r.at, Item: r.item})
}

// closeRuns closes the calls that have not ended, as the answer ends.
func (w *Writer) closeRuns() {
	for i, r := range w.runs {
		if r == nil {
			continue
		}
		w.runs[i] = nil
		r.item.Arguments, r.item.Status = r.text.String(), incomplete
		w.send("response.output_item.done", payload{OutputIndex: &r.at, Item: r.item})
	}
}

// wantApproval adds a call that somebody has to approve.
func (w *Writer) wantApproval(e exchange.ApprovalWanted) {
	w.close(completed)
	item := &ApprovalRequest{Type: approvalType, ID: e.ID, Server: e.Server, Name: e.Name, Arguments: e.Arguments}
	w.open(item)
	w.send("response.output_item.done", payload{OutputIndex: w.last(), Item: item})
}
