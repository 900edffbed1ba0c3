package mcp

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"reflect"
	"sync"
)

// order remembers schemas as servers write them. The protocol's package reads them into maps, which have no order; but the order of a tool's
// arguments is what its author thought of, what a model sees, and the order in which it writes them.
type order struct {
	mu      sync.Mutex
	schemas map[string]json.RawMessage // by the tool's name
}

// schema gives a tool's schema in the order in which it came, if it was seen, and else as it is.
func (o *order) schema(name string, read any) (json.RawMessage, error) {
	o.mu.Lock()
	raw := o.schemas[name]
	o.mu.Unlock()
	var same any
	if raw != nil && json.Unmarshal(raw, &same) == nil && reflect.DeepEqual(same, read) {
		return raw, nil
	}
	return json.Marshal(read)
}

// saw looks at a line that a server has sent.
func (o *order) saw(line []byte) {
	line = bytes.TrimPrefix(line, []byte("data:"))
	if !bytes.Contains(line, []byte(`"inputSchema"`)) {
		return
	}
	var list struct {
		Result struct {
			Tools []struct {
				Name        string          `json:"name"`
				InputSchema json.RawMessage `json:"inputSchema"`
			} `json:"tools"`
		} `json:"result"`
	}
	if json.Unmarshal(line, &list) != nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.schemas == nil || len(o.schemas) > mostRemembered {
		o.schemas = map[string]json.RawMessage{}
	}
	for _, t := range list.Result.Tools {
		o.schemas[t.Name] = t.InputSchema
	}
}

// mostRemembered bounds the schemas that are remembered: those of a list that is within its own bounds.
const mostRemembered = 1024

// watched is what a server sends, line by line.
type watched struct {
	io.ReadCloser
	order *order
	line  []byte
	long  bool // the line is longer than a message may be
}

// Read is for io.Reader.
func (w *watched) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	rest := p[:n]
	for {
		at := bytes.IndexByte(rest, '\n')
		if at < 0 {
			w.take(rest)
			break
		}
		w.take(rest[:at])
		w.end()
		rest = rest[at+1:]
	}
	if err != nil {
		w.end()
	}
	return n, err
}

func (w *watched) take(piece []byte) {
	if w.long = w.long || len(w.line)+len(piece) > longestMessage; !w.long {
		w.line = append(w.line, piece...)
	}
}

func (w *watched) end() {
	if !w.long && len(w.line) > 0 {
		w.order.saw(w.line)
	}
	w.line, w.long = w.line[:0], false
}

// watching is a transport whose answers are watched.
type watching struct {
	http.RoundTripper
	order *order
}

// RoundTrip is for http.Client.
func (t watching) RoundTrip(req *http.Request) (*http.Response, error) {
	resp, err := t.RoundTripper.RoundTrip(req)
	if err == nil {
		resp.Body = &watched{ReadCloser: resp.Body, order: t.order}
	}
	return resp, err
}
