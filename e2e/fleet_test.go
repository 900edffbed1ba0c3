package e2e

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/fleet/fleettest"
)

// process is one that can be killed and started again with the same state.
type process struct {
	t      *testing.T
	binary string
	folder string
	args   []string
	cmd    *exec.Cmd
	output *safeBuffer
}

func (p *process) start() {
	p.t.Helper()
	p.cmd = exec.Command(p.binary, p.args...)
	p.cmd.Env = Env(p.folder)
	p.output = &safeBuffer{}
	p.cmd.Stdout, p.cmd.Stderr = p.output, p.output
	if err := p.cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
}

func (p *process) kill() {
	if p.cmd != nil && p.cmd.Process != nil {
		_ = p.cmd.Process.Kill() // it may have ended
		_ = p.cmd.Wait()
		p.cmd = nil
	}
}

// cluster is three gates, three NATS servers and four machines.
type cluster struct {
	t        *testing.T
	nats     *fleettest.Cluster
	gates    []*process
	bases    []string
	machines []*process
	owner    string
}

func startCluster(t *testing.T) *cluster {
	t.Helper()
	c := &cluster{t: t, nats: fleettest.Start(t, 3)}
	t.Cleanup(func() {
		for _, p := range append(c.gates, c.machines...) {
			p.kill()
		}
	})
	ports := fleettest.FreePorts(t, 3)
	for i, name := range []string{"north", "south", "west"} {
		folder := t.TempDir()
		text := fmt.Sprintf("listen: 127.0.0.1:%d\ndata: %s/data\nmodels: { folders: [%s] }\nfleet: { name: %s, nats: [%q, %q, %q], credentials: %q, roots: %q }\n",
			ports[i], folder, folder, name, c.nats.URLs[0], c.nats.URLs[1], c.nats.URLs[2], c.nats.Credentials, c.nats.Roots)
		file := filepath.Join(folder, "gate.yaml")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		g := &process{t: t, binary: binary, folder: folder, args: []string{"serve", "--config", file}}
		g.start()
		c.gates, c.bases = append(c.gates, g), append(c.bases, fmt.Sprintf("http://127.0.0.1:%d", ports[i]))
	}
	c.eventually("the gates to be up", func() bool {
		for _, b := range c.bases {
			resp, err := http.Get(b + "/readyz")
			if err != nil {
				return false
			}
			resp.Body.Close()
		}
		raw, err := os.ReadFile(filepath.Join(c.gates[0].folder, "data", "owner.key"))
		c.owner = strings.TrimSpace(string(raw))
		return err == nil
	})
	c.eventually("the gates to share keys", func() bool {
		for _, b := range c.bases {
			if status, _ := c.get(b + "/gate/gates"); status != 200 {
				return false
			}
		}
		return true
	})
	invitation := regexp.MustCompile(`"command":"kindred ([^"]+)"`)
	for _, name := range []string{"attic", "cellar", "loft", "shed"} {
		resp, err := c.do("POST", c.bases[0]+"/gate/machines", `{"name":"`+name+`"}`)
		if err != nil {
			t.Fatal(err)
		}
		raw, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		found := invitation.FindSubmatch(raw)
		if found == nil {
			t.Fatalf("%s", raw)
		}
		folder := t.TempDir()
		m := &process{t: t, binary: binary, folder: folder, args: append(strings.Fields(string(found[1])), "--data", filepath.Join(folder, "data"), "--folder", "../demo/models", "--models", "harbour-4m")}
		m.start()
		c.machines = append(c.machines, m)
	}
	c.wellAgain()
	return c
}

func (c *cluster) do(method, url, body string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(c.t.Context(), method, url, strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+c.owner)
	req.Header.Set("Content-Type", "application/json")
	return http.DefaultClient.Do(req)
}

func (c *cluster) get(url string) (int, string) {
	resp, err := c.do("GET", url, "")
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	raw, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(raw)
}

func (c *cluster) eventually(what string, holds func() bool) {
	c.t.Helper()
	for end := time.Now().Add(60 * time.Second); !holds(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			for _, p := range append(c.gates, c.machines...) {
				if p.output != nil {
					out := p.output.String()
					c.t.Logf("%v: …%s", p.args[:2], out[max(0, len(out)-1500):])
				}
			}
			c.t.Fatalf("waited in vain for %s", what)
		}
	}
}

// wellAgain waits until every gate has all machines, and hears of all gates.
func (c *cluster) wellAgain() {
	c.t.Helper()
	c.eventually("all to be well", func() bool {
		for _, b := range c.bases {
			status, body := c.get(b + "/gate/machines")
			if status != 200 || strings.Count(body, `"healthy":true`) != 4 {
				return false
			}
			if _, body := c.get(b + "/gate/gates"); strings.Count(body, `"there":true`) != 3 {
				return false
			}
		}
		return true
	})
}

// client asks for one answer after the other, at any gate, as behind a balancer: where none can be reached it turns to the next.
type client struct {
	c             *cluster
	whole, beyond atomic.Int64 // answers that came whole, and requests that went to another gate before they were answered

	mu     sync.Mutex
	killed map[string]time.Time // gates and machines, when they were last
	cut    []string             // answers that had begun and were cut, though neither their gate nor their machine was killed meanwhile
	lost   int                  // those whose was
}

// kills notes that a gate or a machine is killed now.
func (k *client) kills(what string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.killed[what] = time.Now()
}

// wasCut notes an answer that was cut, which began at a time.
func (k *client) wasCut(begun time.Time, by ...string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, what := range by {
		if k.killed[what].After(begun) {
			k.lost++
			return
		}
	}
	k.cut = append(k.cut, fmt.Sprintf("%s at %s", strings.Join(by, ", "), time.Now().Format("15:04:05.000")))
}

var errCut = errors.New("the answer was cut")

func (k *client) ask(ctx context.Context, at int) error {
	for try := range 30 {
		gate, begun := (at+try)%len(k.c.bases), time.Now()
		by, err := k.once(ctx, k.c.bases[gate])
		switch {
		case err == nil:
			k.whole.Add(1)
			return nil
		case errors.Is(err, errCut):
			if ctx.Err() == nil {
				k.wasCut(begun, fmt.Sprint("gate ", gate), by)
			}
			return nil
		case ctx.Err() != nil:
			return nil
		}
		k.beyond.Add(1)
		if try%3 == 2 {
			time.Sleep(100 * time.Millisecond)
		}
		if try == 29 {
			return err
		}
	}
	return nil
}

func (k *client) once(ctx context.Context, base string) (by string, err error) {
	req, err := http.NewRequestWithContext(ctx, "POST", base+"/v1/chat/completions", strings.NewReader(`{"model":"harbour-4m","stream":true,"max_tokens":200,"messages":[{"role":"user","content":"Write a guide to Marrow Isle."}]}`))
	if err != nil {
		return "", err
	}
	req.Header.Set("Authorization", "Bearer "+k.c.owner)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	if resp.StatusCode != 200 {
		raw, _ := io.ReadAll(resp.Body)
		return "", fmt.Errorf("%d %s", resp.StatusCode, raw)
	}
	by, _, _ = strings.Cut(resp.Header.Get("Kindred-Answered-By"), "/")
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		switch line := lines.Text(); {
		case line == "data: [DONE]":
			return by, nil
		case strings.Contains(line, `"error"`):
			return by, errCut
		}
	}
	return by, errCut
}

// Killing any one of three gates, three NATS servers or four machines under load, twenty times in turn, loses only answers that had begun there: no
// request goes unanswered, and what is cut was in progress at what was killed.
func TestKillsUnderLoad(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	c := startCluster(t)
	k := &client{c: c, killed: map[string]time.Time{}}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var clients sync.WaitGroup
	const atOnce = 6
	for i := range atOnce {
		clients.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				if err := k.ask(ctx, i+n); err != nil {
					t.Errorf("a request is answered by no gate: %v", err)
				}
			}
		})
	}
	machines := []string{"attic", "cellar", "loft", "shed"}
	for round := range 20 {
		before := k.whole.Load()
		c.eventually("answers", func() bool { return k.whole.Load() > before+3 })
		which := round / 3
		switch round % 3 {
		case 0:
			which %= len(c.gates)
			k.kills(fmt.Sprint("gate ", which))
			c.gates[which].kill()
		case 1:
			which %= 3
			c.nats.Stop(which)
		case 2:
			which %= len(machines)
			k.kills(machines[which])
			c.machines[which].kill()
		}
		before = k.whole.Load()
		c.eventually("answers beside what was killed", func() bool { return k.whole.Load() > before+atOnce })
		switch round % 3 {
		case 0:
			c.gates[which].start()
		case 1:
			c.nats.Run(t, which)
		case 2:
			c.machines[which].start()
		}
		c.wellAgain()
	}
	stop()
	clients.Wait()
	for _, cut := range k.cut {
		t.Errorf("an answer was cut, though nothing was killed that it needed: %s", cut)
	}
	if k.lost > 20*atOnce {
		t.Errorf("%d answers were cut, more than can have been in progress", k.lost)
	}
	t.Logf("%d answers came whole; %d that had begun were cut by 20 kills; %d times a request went to another gate", k.whole.Load(), k.lost, k.beyond.Load())
}
