package boot_test

import (
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/config"
	"kindredgate/internal/server"
)

// reading reads a file for a gate with the sample models.
func reading(t *testing.T, file string) func() (config.Reading, error) {
	t.Helper()
	folder := t.TempDir()
	base := settings(t, folder)
	return func() (config.Reading, error) {
		return config.Read(file, config.Flag{Name: "listen", Flag: "--listen", Values: []string{"127.0.0.1:0"}}, config.Flag{Name: "data", Flag: "--data", Values: []string{folder}},
			config.Flag{Name: "models.folders", Flag: "--models", Values: base.Models.Folders})
	}
}

// A gate follows its file: what can hold at once does, what cannot is said, and a file that cannot be used changes nothing. An editor that
// puts another file in the place, or takes it away for a while, is followed too.
func TestAGateFollowsItsFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "gate.yaml")
	write := func(text string) {
		t.Helper()
		next := file + ".next"
		if err := os.WriteFile(next, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(next, file); err != nil {
			t.Fatal(err)
		}
	}
	write("ledger: { days: 5 }\n")
	read := reading(t, file)
	r, err := read()
	if err != nil {
		t.Fatal(err)
	}
	said := &said{}
	o := options
	o.Read, o.Log = read, slog.New(slog.NewTextHandler(said, nil))
	h, owner := running(t, r.Config, o)
	get := func(path, origin string) *http.Response {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, strings.TrimSuffix(h.Server.BaseURL(), "/v1")+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+owner)
		if origin != "" {
			req.Header.Set("Origin", origin)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	told := func() (s server.Settings) {
		t.Helper()
		if err := json.NewDecoder(get("/gate/settings", "").Body).Decode(&s); err != nil {
			t.Fatal(err)
		}
		return s
	}
	// until waits for the gate to have done something; nothing else tells when.
	until := func(what string, done func() bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); !done(); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("it never came that %s; the log says:\n%s", what, said.String())
			}
		}
	}
	shared := func() bool {
		return get("/v1/models", "https://app.example").Header.Get("Access-Control-Allow-Origin") == "https://app.example"
	}
	one := func(s server.Settings, name string) server.Setting {
		for _, one := range s.Settings {
			if one.Name == name {
				return one
			}
		}
		return server.Setting{}
	}

	until("the gate watches", func() bool { // a change before it watches is not seen, so the first one is told
		h.Reload()
		return !told().Read.IsZero()
	})
	if shared() {
		t.Fatal("pages of others are let in before they are named")
	}
	write("browser_origins: [https://app.example]\nmodels: { prepared: 1GiB }\n")
	until("the origin is let in", shared)
	s := told()
	if got := one(s, "ledger.days"); got.Value != "90" || got.Layer != config.ByDefault {
		t.Errorf("what the file has no longer: %+v", got)
	}
	if got := one(s, "models.prepared"); got.Value != "1GiB" || got.Running != "20GiB" || !got.Restart || got.Where != file+":2" {
		t.Errorf("what needs a restart: %+v", got)
	}
	if got := one(s, "browser_origins"); got.Running != "" || s.Problem != "" {
		t.Errorf("what holds at once: %+v, problem %q", got, s.Problem)
	}
	if !strings.Contains(said.String(), "holds from the next start on") {
		t.Errorf("the log does not say what needs a restart:\n%s", said.String())
	}

	// Access cannot be opened with an address for others, nor by taking that out of the file while it is still listened at.
	write("access: open\nnetwork: { listen: [\"192.0.2.1:0\"] }\n")
	until("the mistake is told", func() bool { return strings.Contains(told().Problem, "refused on 192.0.2.1:0") })
	write("browser_origin: []\n")
	until("the mistake is told", func() bool { return strings.Contains(told().Problem, `the nearest is "browser_origins"`) })
	if !shared() {
		t.Error("a file that cannot be used took the settings away")
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	h.Reload()
	until("the file is missed", func() bool { return strings.Contains(told().Problem, "no such file") })
	if !shared() {
		t.Error("a file that vanished took the settings away")
	}
	write("ledger: { days: 5 }\n")
	until("the origin is let in no more", func() bool { return !shared() })
	if s := told(); s.Problem != "" || one(s, "ledger.days").Value != "5" {
		t.Errorf("after it was mended: %+v", s)
	}
}

// What a gate runs with counts: access is not opened while others reach it, though the file does not name their address any more.
func TestAccessIsNotOpenedToOthers(t *testing.T) {
	file := filepath.Join(t.TempDir(), "gate.yaml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("network: { listen: [\"0.0.0.0:0\"] }\n")
	read := reading(t, file)
	r, err := read()
	if err != nil {
		t.Fatal(err)
	}
	o := options
	o.Read = read
	h, owner := running(t, r.Config, o)
	write("access: open\n")
	h.Reload()
	tries(t, func() bool {
		h.Reload()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, strings.TrimSuffix(h.Server.BaseURL(), "/v1")+"/gate/settings", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+owner)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var s server.Settings
		if err := json.NewDecoder(resp.Body).Decode(&s); err != nil {
			t.Fatal(err)
		}
		return strings.Contains(s.Problem, "access is open, which is refused on 0.0.0.0:0")
	})
	resp, err := http.Get(h.Server.BaseURL() + "/models")
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusUnauthorized {
		t.Errorf("without a key: %s", resp.Status)
	}
}

// A reload applies all of a file or nothing, and is tried again when a file that it names appears. A runner that cannot be used when the gate
// starts is listed with the reason, and comes when it can; a file that is gone or emptied changes nothing; and the first file is noticed.
func TestAReloadIsWholeOrNothing(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "not", "there", "yet")
	file, key := filepath.Join(folder, "kindred-gate", "gate.yaml"), filepath.Join(t.TempDir(), "attic.key")
	usual := reading(t, "")
	t.Setenv("XDG_CONFIG_HOME", folder) // in which the gate has a folder of its own
	write := func(path, text string) {
		t.Helper()
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	r, err := usual()
	if err != nil || r.File != file {
		t.Fatal(r.File, err)
	}
	said := &said{}
	o := options
	o.Read, o.Log = usual, slog.New(slog.NewTextHandler(said, nil))
	h, owner := running(t, r.Config, o)
	ask := func(path string, out any) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, strings.TrimSuffix(h.Server.BaseURL(), "/v1")+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+owner)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
			t.Fatal(err)
		}
	}
	days := func() (days, problem string) {
		var s server.Settings
		ask("/gate/settings", &s)
		for _, one := range s.Settings {
			if one.Name == "ledger.days" {
				days = one.Value
			}
		}
		return days, s.Problem
	}
	machines := func() map[string]string {
		var list server.MachineList
		ask("/gate/machines", &list)
		all := map[string]string{}
		for _, m := range list.Machines {
			all[m.Name] = m.Why
		}
		return all
	}
	until := func(what string, done func() bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); !done(); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("it never came that %s; the log says:\n%s", what, said.String())
			}
		}
	}
	is := func(want, problem string) func() bool {
		return func() bool {
			got, said := days()
			return got == want && strings.Contains(said, problem) && (said == "") == (problem == "")
		}
	}
	until("the gate watches", func() bool {
		h.Reload()
		return is("90", "")()
	})
	write(file, "ledger: { days: 5 }\n")
	until("the first file is noticed", is("5", ""))

	attic := "runners: { attic: { url: \"http://127.0.0.1:9/v1\", key_file: " + key + " } }\n"
	write(file, "ledger: { days: 7 }\n"+attic)
	until("the file is refused as a whole", is("5", "runners.attic.key_file"))
	if len(machines()) != 0 {
		t.Errorf("half of it is applied: %v", machines())
	}
	write(key, "k")
	until("it is tried again, now that the key is there", is("7", ""))
	until("the runner is there", func() bool { _, ok := machines()["attic"]; return ok })

	write(file, " \n")
	until("an empty file changes nothing", is("7", "has nothing in it"))
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	h.Reload()
	until("a file that is gone changes nothing", is("7", "is gone"))
	write(file, "# the defaults\n")
	until("a comment stands for the defaults", is("90", ""))

	// At the start, what can be used is.
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	write(file, attic)
	if r, err = reading(t, "")(); err != nil {
		t.Fatal(err)
	}
	o.Read = reading(t, file)
	h, owner = running(t, r.Config, o)
	if why, ok := machines()["attic"]; !ok || !strings.Contains(why, "key_file") {
		t.Errorf("a runner that cannot be used is listed as %v", machines())
	}
	write(file, attic+"ledger: { days: 9 }\n")
	until("another setting is applied beside it", is("9", ""))
	write(key, "k")
	until("it can be used", func() bool { return !strings.Contains(machines()["attic"], "key_file") })
}

// With apply_at_start, what the file declares holds from the start, and follows the file; keys that are created are in files. What cannot be
// applied is told, and the gate serves what it has.
func TestApplyAtStart(t *testing.T) {
	file := filepath.Join(t.TempDir(), "gate.yaml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte("apply_at_start: true\n"+text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("names: { timetable: harbour-4m }\nkeys: { \"kiosk 1\": { models: [timetable] } }\n")
	read := reading(t, file)
	r, err := read()
	if err != nil {
		t.Fatal(err)
	}
	o := options
	o.Read = read
	h, _ := running(t, r.Config, o)
	names := func() (list []string) {
		all, err := h.Gate.Names.Names(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range all {
			list = append(list, n.Name+" "+n.Said())
		}
		return list
	}
	if got := strings.Join(names(), ", "); got != "timetable harbour-4m" {
		t.Errorf("at the start: %q", got)
	}
	secret := filepath.Join(r.Data, "keys", "kiosk%201.key")
	raw, err := os.ReadFile(secret)
	if err != nil {
		t.Fatal(err)
	}
	if k, err := h.Gate.Keys.Check(t.Context(), strings.TrimSpace(string(raw))); err != nil || k.Label != "kiosk 1" {
		t.Errorf("the key in the file: %v, %v", k.Label, err)
	}
	if info, err := os.Stat(secret); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("its file: %v, %v", info.Mode(), err)
	}
	until := func(what string, done func() bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); !done(); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("it never came that %s: %q, %q", what, names(), h.Problem())
			}
		}
	}
	write("names: { timetable: harbour-4m, large: attic/large }\n")
	until("what cannot be applied is told", func() bool {
		h.Reload()
		return strings.Contains(h.Problem(), "apply_at_start") && strings.Contains(h.Problem(), "attic/large")
	})
	if got := strings.Join(names(), ", "); got != "timetable harbour-4m" {
		t.Errorf("half of it holds: %q", got)
	}
	write("names: { tides: harbour-4m }\n")
	until("the file is followed", func() bool {
		h.Reload()
		return strings.Join(names(), ", ") == "tides harbour-4m" && h.Problem() == ""
	})
}
