// Package standin is a server that speaks the OpenAI-compatible protocol and answers from a script: what a gate's other machines are in
// tests, and for whoever wants to see how a gate takes their faults. It breaks in the ways in which servers do, when it is told to.
package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/dialect/chat"
	"kindredgate/internal/dialect/completion"
	"kindredgate/internal/dialect/embedding"
	"kindredgate/internal/dialect/rerank"
	"kindredgate/internal/dialect/response"
	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// Fault is a way of not working. Its zero value works.
type Fault struct {
	Before     time.Duration // ahead of the first token; the connection stays open
	Status     int           // in the place of an answer
	RetryAfter string        // with it
	Redirect   string        // to there
	CutAfter   int           // pieces, after which the connection is closed; 0 for never
	SilentAt   int           // piece, from which on nothing comes; 0 for none
	Drip       time.Duration // between the bytes of the stream, none of which ends a line
	Chatter    time.Duration // between comments, of which there is nothing but
	BadJSON    bool          // in the second piece
	Usage      string        // JSON in the place of the usage
	Finish     string        // in the place of the finish reason
	Endless    bool          // the answer does not end
	Huge       int           // bytes of one piece that has no end
	Quiet      bool          // no word at the end: neither a finish reason nor an end of the stream
	NotFound   []string      // paths that are not there, such as /v1/chat/completions
	Page       bool          // a page for browsers in the place of an answer
	Error      string        // JSON of an error in the place of the second piece
	Model      string        // that the fault is of alone; "" for every one
	Refuse     string        // a text that makes a request be refused with 400, if its body holds it
}

// Server answers from a script. It is safe for concurrent use.
type Server struct {
	Runner *scripted.Runner
	Models []string
	Key    string // that is wanted; "" for none

	fault atomic.Pointer[Fault]
	open  atomic.Int64
	count atomic.Int64
	left  atomic.Int64

	mu   sync.Mutex
	last Request
}

// Request is what came.
type Request struct {
	Path   string
	Header http.Header
	Body   string
}

// New makes a server with one model, harbour-4m, which repeats what it is told.
func New() *Server {
	s := &Server{Runner: &scripted.Runner{}, Models: []string{"harbour-4m"}}
	s.Break(Fault{})
	return s
}

// Break has the server break in a way, from the next request on.
func (s *Server) Break(f Fault) { s.fault.Store(&f) }

// Open is how many answers are under way, Asked how many were asked for, and Left how many of these the client left before their end.
func (s *Server) Open() int  { return int(s.open.Load()) }
func (s *Server) Asked() int { return int(s.count.Load()) }
func (s *Server) Left() int  { return int(s.left.Load()) }

// Last is the last request for an answer.
func (s *Server) Last() Request {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.last
}

// mostBody bounds what is read of a request, in bytes.
const mostBody = 32 << 20

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f := s.fault.Load()
	refuse := func(status int, kind, message string) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(map[string]any{"error": map[string]any{"message": message, "type": kind, "param": nil, "code": nil}})
	}
	if s.Key != "" && r.Header.Get("Authorization") != "Bearer "+s.Key {
		refuse(http.StatusUnauthorized, "authentication_error", "the key "+strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")+" is not known")
		return
	}
	for _, path := range f.NotFound {
		if path == r.URL.Path {
			refuse(http.StatusNotFound, "invalid_request_error", "there is nothing here")
			return
		}
	}
	if r.URL.Path == "/v1/models" {
		data := []map[string]any{}
		for _, name := range s.Models {
			data = append(data, map[string]any{"id": name, "object": "model", "created": 1893456000, "owned_by": "standin", "context_length": 4096})
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"object": "list", "data": data})
		return
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, mostBody))
	if err != nil {
		return // the client has gone
	}
	if string(body) == "{}" {
		if _, ok := styles[r.URL.Path]; !ok {
			refuse(http.StatusNotFound, "invalid_request_error", "there is nothing here")
			return
		}
		refuse(http.StatusBadRequest, "invalid_request_error", "model is missing")
		return
	}
	if f.Model != "" && !strings.Contains(string(body), `"model":"`+f.Model+`"`) {
		f = &Fault{}
	}
	s.mu.Lock()
	s.last = Request{r.URL.Path, r.Header.Clone(), string(body)}
	s.mu.Unlock()
	s.count.Add(1)
	s.open.Add(1)
	defer s.open.Add(-1)
	wait := func(d time.Duration) bool {
		select {
		case <-time.After(d):
			return true
		case <-r.Context().Done():
			s.left.Add(1)
			return false
		}
	}
	switch {
	case f.Page:
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, "<!doctype html><title>Sorrel Sound Ferries</title>")
		return
	case f.Redirect != "":
		http.Redirect(w, r, f.Redirect, http.StatusTemporaryRedirect)
		return
	case f.Status != 0:
		if f.RetryAfter != "" {
			w.Header().Set("Retry-After", f.RetryAfter)
		}
		kind := "server_error"
		if f.Status == http.StatusTooManyRequests {
			kind = "rate_limit_error"
		}
		refuse(f.Status, kind, "it is broken")
		return
	case f.Refuse != "" && strings.Contains(string(body), f.Refuse):
		refuse(http.StatusBadRequest, "invalid_request_error", f.Refuse+" is not known here")
		return
	case f.Before > 0:
		if !wait(f.Before) {
			return
		}
	}
	style, ok := styles[r.URL.Path]
	if !ok {
		refuse(http.StatusNotFound, "invalid_request_error", "there is nothing here")
		return
	}
	pieces, whole, err := style(s, r, body)
	if err != nil {
		e := exchange.AsError(err)
		refuse(http.StatusBadRequest, "invalid_request_error", e.Message)
		return
	}
	if pieces == nil {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(whole)
		return
	}
	s.stream(w, r, f, pieces, wait)
}

// styles decode a request and run it: as the pieces of a stream, or as a whole answer.
var styles = map[string]func(s *Server, r *http.Request, body []byte) (iter.Seq2[any, error], []byte, error){
	"/v1/chat/completions": func(s *Server, r *http.Request, body []byte) (iter.Seq2[any, error], []byte, error) {
		call, err := chat.Decode(body)
		if err != nil {
			return nil, nil, err
		}
		events := s.Runner.Run(r.Context(), "", &call.Request)
		if call.Stream {
			return pieces(chat.EncodeStream("standin", time.Now(), call, events)), nil, nil
		}
		v, err := chat.Encode("standin", time.Now(), call, events)
		return whole(v, err)
	},
	"/v1/completions": func(s *Server, r *http.Request, body []byte) (iter.Seq2[any, error], []byte, error) {
		call, err := completion.Decode(body)
		if err != nil {
			return nil, nil, err
		}
		events := func(yield func(exchange.Numbered[exchange.Event], error) bool) {
			for event, err := range s.Runner.Run(r.Context(), "", &call.Requests[0]) {
				if !yield(exchange.Numbered[exchange.Event]{Item: event}, err) {
					return
				}
			}
		}
		if call.Stream {
			return pieces(completion.EncodeStream("standin", time.Now(), call, events)), nil, nil
		}
		v, err := completion.Encode("standin", time.Now(), call, events)
		return whole(v, err)
	},
	"/v1/responses": func(s *Server, r *http.Request, body []byte) (iter.Seq2[any, error], []byte, error) {
		call, err := response.Decode(body)
		if err != nil {
			return nil, nil, err
		}
		var events []response.Event
		w := response.NewWriter("standin", time.Now(), call, func(e response.Event) { events = append(events, e) })
		w.Begin()
		for event, err := range s.Runner.Run(r.Context(), "", &call.Request) {
			if err == nil {
				err = w.Add(event)
			}
			if err != nil {
				return nil, nil, err
			}
		}
		if !call.Stream {
			return whole(w.Response(), nil)
		}
		return func(yield func(any, error) bool) {
			for _, e := range events {
				if !yield(e.Data, nil) {
					return
				}
			}
		}, nil, nil
	},
	"/v1/embeddings": func(s *Server, r *http.Request, body []byte) (iter.Seq2[any, error], []byte, error) {
		call, err := embedding.Decode(body)
		if err != nil {
			return nil, nil, err
		}
		v, err := s.Runner.Embed(r.Context(), "", &call.Embedding)
		if err != nil {
			return nil, nil, err
		}
		return whole(embedding.Encode(call, v), nil)
	},
	"/v1/rerank": func(s *Server, r *http.Request, body []byte) (iter.Seq2[any, error], []byte, error) {
		call, err := rerank.Decode(body)
		if err != nil {
			return nil, nil, err
		}
		v, err := s.Runner.Rank(r.Context(), "", &call.Ranking)
		if err != nil {
			return nil, nil, err
		}
		return whole(rerank.Encode(call, v), nil)
	},
}

func whole(v any, err error) (iter.Seq2[any, error], []byte, error) {
	if err != nil {
		return nil, nil, err
	}
	raw, err := json.Marshal(v)
	return nil, raw, err
}

func pieces[T any](list iter.Seq2[T, error]) iter.Seq2[any, error] {
	return func(yield func(any, error) bool) {
		for v, err := range list {
			if !yield(v, err) {
				return
			}
		}
	}
}

// stream writes the pieces of an answer, with what is to be wrong with them.
func (s *Server) stream(w http.ResponseWriter, r *http.Request, f *Fault, list iter.Seq2[any, error], wait func(time.Duration) bool) {
	w.Header().Set("Content-Type", "text/event-stream")
	n, last := 0, ""
	write := func(text string) bool {
		if _, err := io.WriteString(w, text); err != nil {
			s.left.Add(1)
			return false
		}
		w.(http.Flusher).Flush()
		return true
	}
	for f.Chatter > 0 {
		if !write(": still here\n\n") || !wait(f.Chatter) {
			return
		}
	}
	for v, err := range list {
		if err != nil {
			if r.Context().Err() != nil {
				s.left.Add(1)
			}
			return
		}
		raw, err := json.Marshal(v)
		if err != nil {
			return
		}
		n++
		if f.Error != "" && n == 2 {
			write("event: error\ndata: {\"error\":" + f.Error + "}\n\n")
			return
		}
		text := f.twist(string(raw), n)
		switch {
		case f.Quiet && (strings.Contains(text, `"finish_reason":"`) || strings.Contains(text, `"usage":{`)):
			continue
		case f.Huge > 0 && n == 2:
			write("data: " + strings.Repeat("x", f.Huge))
			return
		case f.SilentAt == n:
			<-r.Context().Done()
			s.left.Add(1)
			return
		case f.Drip > 0 && n == 2:
			for range 1 << 20 {
				if !write(" ") || !wait(f.Drip) {
					return
				}
			}
		}
		if !write("data: " + text + "\n\n") {
			return
		}
		if strings.Contains(text, `"content":"`) && !strings.Contains(text, `"content":""`) {
			last = text
		}
		if f.CutAfter == n {
			panic(http.ErrAbortHandler)
		}
		for f.Endless && last != "" && n > 2 {
			if !write("data: " + last + "\n\n") {
				return
			}
		}
	}
	if !f.Quiet {
		write("data: [DONE]\n\n")
	}
}

// twist puts what is to be wrong into piece n.
func (f *Fault) twist(text string, n int) string {
	if f.BadJSON && n == 2 {
		return text[:len(text)/2]
	}
	if at := strings.Index(text, `"usage":{`); f.Usage != "" && at >= 0 {
		depth, end := 0, at
		for end = at + len(`"usage":`); end < len(text); end++ {
			switch text[end] {
			case '{':
				depth++
			case '}':
				depth--
			}
			if depth == 0 {
				break
			}
		}
		text = text[:at] + `"usage":` + f.Usage + text[end+1:]
	}
	if f.Finish != "" {
		text = strings.Replace(text, `"finish_reason":"stop"`, fmt.Sprintf(`"finish_reason":%q`, f.Finish), 1)
	}
	return text
}
