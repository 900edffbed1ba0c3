package e2e

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite" // to look into a gate's database from outside
)

// A gate is killed again and again while applications use it. Whatever a client has seen the end of is in the ledger, as done; what was
// under way is marked as interrupted; and the database is whole.
func TestLedgerAfterKills(t *testing.T) {
	folder := t.TempDir()
	// Questions of several lengths, so that a kill finds exchanges at all points.
	questions := []string{"When is the last boat to Osmer?", "Write a guide to Marrow Isle.", "And to Quillay?"}
	whole := map[string]bool{}
	var mu sync.Mutex
	const rounds, clients = 20, 6
	for round := range rounds {
		g, err := Start(binary, folder, "demo", "--listen", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		ended := make(chan struct{}, 10_000)
		for c := range clients {
			all.Go(func() {
				for n := 0; ; n++ {
					body := fmt.Sprintf(`{"model":"harbour-4m","stream":%v,"messages":[{"role":"user","content":%q}]}`, n%2 == 0, questions[(c+n)%len(questions)])
					req, err := http.NewRequest("POST", g.BaseURL+"/chat/completions", strings.NewReader(body))
					if err != nil {
						t.Error(err)
						return
					}
					req.Header.Set("Authorization", "Bearer "+g.Key)
					resp, err := http.DefaultClient.Do(req)
					if err != nil {
						return // it was killed
					}
					raw, err := io.ReadAll(resp.Body)
					resp.Body.Close()
					if err != nil || resp.StatusCode != 200 {
						return
					}
					if n%2 == 1 && json.Valid(raw) || bytes.Contains(raw, []byte("data: [DONE]")) {
						mu.Lock()
						whole[resp.Header.Get("X-Request-Id")] = true
						mu.Unlock()
						ended <- struct{}{}
					}
				}
			})
		}
		for range 5 + 7*round { // so that each kill comes at another time of the writer's
			select {
			case <-ended:
			case <-time.After(time.Minute):
				t.Fatal("no answer comes to its end")
			}
		}
		if err := g.Signal(syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		if _, err := g.Wait(10 * time.Second); err != nil {
			t.Fatal(err)
		}
		all.Wait()
	}
	g, err := Start(binary, folder, "demo", "--listen", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Stop(); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "data/kindred-gate/demo/gate.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var integrity string
	if err := db.QueryRow(`PRAGMA integrity_check`).Scan(&integrity); err != nil || integrity != "ok" {
		t.Errorf("the database: %s, %v", integrity, err)
	}
	rows, err := db.Query(`SELECT id, state FROM exchanges`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	states := map[string]int{}
	for rows.Next() {
		var id, state string
		if err := rows.Scan(&id, &state); err != nil {
			t.Fatal(err)
		}
		states[state]++
		if whole[id] && state != "done" {
			t.Errorf("exchange %s, whose end was seen, is %s", id, state)
		}
		delete(whole, id)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	if len(whole) > 0 {
		t.Errorf("%d exchanges, whose ends were seen, are not in the ledger, %s among them", len(whole), slices.Collect(maps.Keys(whole))[0])
	}
	if states["open"] > 0 || states["interrupted"] == 0 || states["done"] < rounds {
		t.Errorf("%v", states)
	}
	t.Logf("%v", states)
}

// What was used of limits is counted still when the gate was killed before it could write that down.
func TestLimitsAfterAKill(t *testing.T) {
	folder := t.TempDir()
	begin := func() *Gate {
		g, err := Start(binary, folder, "demo", "--listen", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	used := func(g *Gate) map[string]int64 {
		out, errOut, code := run(t, g, "", "keys", "show", "kiosk", "--json")
		var k struct {
			Standing []struct {
				What             string
				Limit, Remaining int64
			}
		}
		if err := json.Unmarshal([]byte(out), &k); err != nil || code != 0 {
			t.Fatal(out, errOut, err)
		}
		list := map[string]int64{}
		for _, s := range k.Standing {
			list[s.What] = s.Limit - s.Remaining
		}
		return list
	}
	g := begin()
	key, errOut, code := run(t, g, "", "keys", "issue", "--label", "kiosk", "--requests-per-day", "100", "--tokens-per-day", "100000")
	if code != 0 {
		t.Fatal(errOut)
	}
	const requests = 8
	for range requests {
		if _, errOut, code := run(t, g, "", "ask", "--key", strings.TrimSpace(key), "When is the last boat to Osmer?"); code != 0 {
			t.Fatal(errOut)
		}
	}
	before := used(g)
	if before["requests a day"] != requests || before["tokens a day"] == 0 {
		t.Fatalf("used: %v", before)
	}
	if err := g.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if _, err := g.Wait(10 * time.Second); err != nil {
		t.Fatal(err)
	}
	g = begin()
	if after := used(g); !maps.Equal(after, before) {
		t.Errorf("used: %v after the kill, %v before it", after, before)
	}
	if err := g.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if _, err := g.Wait(10 * time.Second); err != nil {
		t.Fatal(err)
	}
}
