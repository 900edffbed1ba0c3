package server

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/store"
)

// page asks for a page of the ledger.
func (h *testServer) page(t *testing.T, query string) []record.Record {
	t.Helper()
	resp, body := h.do(t, "GET", "/gate/exchanges?"+query, h.owner, "")
	var list ExchangeList
	if err := json.Unmarshal([]byte(body), &list); err != nil || resp.StatusCode != 200 {
		t.Fatalf("%s: %d %s", query, resp.StatusCode, body)
	}
	return list.Exchanges
}

// Every exchange that came with a key is in the ledger: whole ones, those that were refused, and those that could not even be read.
func TestExchangesAreInTheLedger(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye", ", ", "aye."} }})
	var whole string
	for _, c := range []struct {
		path, key, body string
		status          int
	}{
		{"/v1/chat/completions", h.key, chatBody(true, ""), 200},
		{"/v1/responses", h.key, `{"model":"harbour-4m","input":"When?"}`, 200},
		{"/v1/embeddings", h.key, `{"model":"harbour-embed","input":"When?"}`, 200},
		{"/v1/completions", h.key, `{"model":"harbour-4m","prompt":["When?","Where?"]}`, 200},
		{"/v1/chat/completions", h.narrow, chatBody(false, ""), 403},
		{"/v1/chat/completions", h.key, `{"model":`, 400},
		{"/v1/chat/completions", "kg_stranger", chatBody(false, ""), 401}, // who leaves no trace
	} {
		resp, body := h.do(t, "POST", c.path, c.key, c.body, "User-Agent", "a-test")
		if resp.StatusCode != c.status {
			t.Fatalf("%s: %d %s", c.path, resp.StatusCode, body)
		}
		if whole == "" {
			whole = resp.Header.Get("X-Request-Id")
		}
	}
	all := h.page(t, "")
	var got []string
	for _, e := range all {
		got = append(got, strings.Join([]string{e.Style, e.Label, string(e.State), e.Code}, " "))
	}
	want := "chat application refused invalid_json|chat narrow refused model_not_allowed|completion application done |completion application done |embedding application done |response application done |chat application done "
	if text := strings.Join(got, "|"); text != want {
		t.Errorf("the ledger has\n%s, not\n%s", text, want)
	}
	resp, body := h.do(t, "GET", "/gate/exchanges/"+whole, h.owner, "")
	var e record.Record
	if err := json.Unmarshal([]byte(body), &e); err != nil || resp.StatusCode != 200 || e.PromptTokens != 6 || e.CompletionTokens != 3 || e.Took <= 0 || e.Agent != "a-test" || e.Client != "127.0.0.1" || e.Answered != "harbour-4m" || e.Endpoint != "/v1/chat/completions" {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	count := func(query string, want int) {
		t.Helper()
		if list := h.page(t, query); len(list) != want {
			t.Errorf("%s gives %d exchanges, not %d", query, len(list), want)
		}
	}
	count("bad=true", 2)
	count("style=completion", 2)
	count("key=narrow", 1)
	count("key=kg_"+e.Key, 6)
	count("model=harbour-embed", 1)
	count("slow_ms=60000", 0)
	count("since="+time.Now().Add(time.Hour).UTC().Format(time.RFC3339), 0)
	count("until="+time.Now().Add(time.Hour).UTC().Format(time.RFC3339), 7)
	count("until="+time.Now().Add(-time.Hour).UTC().Format(time.RFC3339), 0)
	count("limit=2", 2)
	if resp, body := h.do(t, "GET", "/gate/exchanges/export?style=completion", h.owner, ""); resp.StatusCode != 200 || strings.Count(body, "\n") != 2 || strings.Count(body, `"style":"completion"`) != 2 {
		t.Errorf("exported: %d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "GET", "/gate/exchanges/export?format=csv", h.owner, ""); resp.StatusCode != 200 || strings.Count(body, "\n") != 8 || !strings.HasPrefix(body, "id,state,") {
		t.Errorf("exported: %d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "GET", "/gate/exchanges/export?format=xml", h.owner, ""); resp.StatusCode != 400 {
		t.Errorf("exported: %d %s", resp.StatusCode, body)
	}
	if cells := exportCells(record.Record{Model: "=cmd()", Label: "bot"}); !slices.Contains(cells, "'=cmd()") || len(cells) != len(record.Fields) {
		t.Errorf("a table has %q", cells)
	}
	count("before="+all[2].ID, 4)
	for _, query := range []string{"bad=perhaps", "style=verse", "since=noon", "until=noon", "slow_ms=-1", "limit=0", "limit=1001"} {
		name, _, _ := strings.Cut(query, "=")
		if resp, body := h.do(t, "GET", "/gate/exchanges?"+query, h.owner, ""); resp.StatusCode != 400 || !strings.Contains(body, `"param":"`+name+`"`) {
			t.Errorf("%s: %d %s", query, resp.StatusCode, body)
		}
	}
	if resp, body := h.do(t, "GET", "/gate/exchanges/nothing", h.owner, ""); resp.StatusCode != 404 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "GET", "/gate/exchanges", h.key, ""); resp.StatusCode != 403 {
		t.Errorf("an application's key sees the ledger: %d", resp.StatusCode)
	}
}

// cutStore breaks behind the first page.
type cutStore struct{ *store.Store }

func (s cutStore) Exchanges(ctx context.Context, f record.Filter) ([]record.Record, error) {
	if f.Before != "" {
		return nil, errors.New("the disk is gone")
	}
	return s.Store.Exchanges(ctx, f)
}

// An export that breaks off in the middle does not look whole to whoever reads it.
func TestExportsThatAreCut(t *testing.T) {
	db, err := store.Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var rows []record.Record
	for i := range 1001 {
		rows = append(rows, record.Record{ID: fmt.Sprint("e", i), Begun: time.Now(), State: record.Done})
	}
	if err := db.PutExchanges(t.Context(), rows); err != nil {
		t.Fatal(err)
	}
	h := start(t, &scripted.Runner{}, func(o *Options) {
		if o.Ledger, err = ledger.Open(context.Background(), t.TempDir(), cutStore{db}, kept.Keep{}, slog.New(slog.DiscardHandler)); err != nil {
			t.Fatal(err)
		}
	})
	for _, format := range []string{"jsonl", "csv"} {
		req, err := http.NewRequestWithContext(t.Context(), "GET", h.url+"/gate/exchanges/export?format="+format, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+h.owner)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			continue // cut before anything came
		}
		if raw, err := io.ReadAll(resp.Body); err == nil {
			t.Errorf("%s: %d bytes that look whole", format, len(raw))
		}
		resp.Body.Close()
	}
}

// While a thousand clients stream, the ledger is read a thousand rows at a time, and somebody watches: no request fails, and every exchange is
// there afterwards.
func TestAThousandStreamsWhileTheLedgerIsRead(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes some seconds under the race detector")
	}
	const clients = 1000
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return scripted.Words(strings.Repeat("aye ", 20)) }, Before: func(ctx context.Context, _ int) error {
		select {
		case <-time.After(10 * time.Millisecond): // as a model takes its time
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}})
	begin := make(chan struct{})
	var all, reading sync.WaitGroup
	for range clients {
		all.Go(func() {
			<-begin
			if resp, body := h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(true, "")); resp.StatusCode != 200 || !strings.HasSuffix(body, "data: [DONE]\n\n") {
				t.Errorf("%d %.200s", resp.StatusCode, body)
			}
		})
	}
	close(begin)
	ended := make(chan struct{})
	reading.Go(func() {
		for {
			select {
			case <-ended:
				return
			default:
				h.page(t, "limit=1000&key=application")
			}
		}
	})
	all.Wait()
	close(ended)
	reading.Wait()
	if list := h.page(t, "limit=1000"); len(list) != clients || list[0].State != record.Done || list[clients-1].State != record.Done {
		t.Errorf("%d are in the ledger", len(list))
	}
}

// Who watches sees an exchange begin and end, and does not keep the gate from stopping.
func TestWatching(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }})
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", h.url+"/gate/exchanges/live", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+h.owner)
	resp, err := http.DefaultClient.Do(req) // which comes back at once, before there is anything to see
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	_, body := h.do(t, "POST", "/v1/generate", h.key, `{"model":"harbour-4m","prompt":"When?"}`)
	if !strings.Contains(body, "Aye.") {
		t.Fatal(body)
	}
	var states []record.State
	lines := bufio.NewScanner(resp.Body)
	for len(states) < 2 && lines.Scan() {
		if doc, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var seen ledger.FeedEvent
			if err := json.Unmarshal([]byte(doc), &seen); err != nil || seen.Record == nil {
				t.Fatalf("%s: %v", doc, err)
			}
			states = append(states, seen.State)
		}
	}
	if len(states) != 2 || states[0] != record.Open || states[1] != record.Done {
		t.Errorf("%v", states)
	}
	h.stop()
	for lines.Scan() {
	}
	if err := lines.Err(); err != nil {
		t.Errorf("the feed ends with %v", err)
	}
}
