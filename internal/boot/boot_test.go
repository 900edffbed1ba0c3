package boot_test

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"kindredgate/demo"
	"kindredgate/internal/boot"
	"kindredgate/internal/config"
)

// settings are those of a gate with the sample models in a folder.
func settings(t *testing.T, folder string) config.Config {
	t.Helper()
	if err := demo.Install(folder); err != nil {
		t.Fatal(err)
	}
	cfg := config.Default()
	cfg.Listen, cfg.Data, cfg.Models.Folders = "127.0.0.1:0", folder, []string{filepath.Join(folder, "models")}
	return cfg
}

var options = boot.Options{Log: slog.New(slog.DiscardHandler), Console: fstest.MapFS{"index.html": {}}, Version: "test"}

// running opens a gate and has it serve until the test ends. It returns the owner key, too.
func running(t *testing.T, cfg config.Config, o boot.Options) (*boot.App, string) {
	t.Helper()
	h, err := boot.Open(t.Context(), cfg, o)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- h.Serve(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-served; err != nil {
			t.Error(err)
		}
		if err := h.Close(); err != nil {
			t.Error(err)
		}
	})
	owner, err := os.ReadFile(filepath.Join(cfg.Data, boot.OwnerFile))
	if err != nil {
		t.Fatal(err)
	}
	return h, strings.TrimSpace(string(owner))
}

// A whole gate answers with the owner key that it made, and comes up again with the same one. Meanwhile no second gate can
// have its folder, and is told who has it.
func TestAGateHasItsFolderForItself(t *testing.T) {
	cfg := settings(t, t.TempDir())
	for round := range 2 {
		h, err := boot.Open(t.Context(), cfg, options)
		if err != nil {
			t.Fatal(err)
		}
		if h.NewOwner != (round == 0) {
			t.Errorf("round %d: a new owner key: %v", round, h.NewOwner)
		}
		ctx, stop := context.WithCancel(t.Context())
		served := make(chan error, 1)
		go func() { served <- h.Serve(ctx) }()
		secret, err := os.ReadFile(filepath.Join(cfg.Data, boot.OwnerFile))
		if err != nil {
			t.Fatal(err)
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, h.Server.BaseURL()+"/models", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(secret)))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || resp.StatusCode != http.StatusOK || !strings.Contains(string(body), "harbour-4m") {
			t.Errorf("%d %s, %v", resp.StatusCode, body, err)
		}
		if second, err := boot.Open(t.Context(), cfg, options); err == nil || !strings.Contains(err.Error(), h.Listener.Addr().String()) {
			t.Errorf("a second gate: %v, %v", second, err)
		}
		stop()
		if err := <-served; err != nil {
			t.Error(err)
		}
		if err := h.Close(); err != nil {
			t.Error(err)
		}
	}
}

// What was opened before something failed is closed: the folder and the address can be used again.
func TestAGateThatCannotStartLeavesNothing(t *testing.T) {
	cfg := settings(t, t.TempDir())
	database := filepath.Join(cfg.Data, boot.DatabaseFile)
	if err := os.Mkdir(database, 0o700); err != nil {
		t.Fatal(err)
	}
	if _, err := boot.Open(t.Context(), cfg, options); err == nil {
		t.Fatal("a gate whose database is a folder starts")
	}
	if err := os.Remove(database); err != nil {
		t.Fatal(err)
	}
	h, err := boot.Open(t.Context(), cfg, options)
	if err != nil {
		t.Fatal(err)
	}
	if err := h.Close(); err != nil {
		t.Error(err)
	}
}

// A database that is none does not keep a gate from starting: it is set aside, and the log says what that means.
func TestAGateStartsBesideADamagedDatabase(t *testing.T) {
	cfg := settings(t, t.TempDir())
	database := filepath.Join(cfg.Data, boot.DatabaseFile)
	garbage := strings.Repeat("this is no database ", 100)
	if err := os.WriteFile(database, []byte(garbage), 0o600); err != nil {
		t.Fatal(err)
	}
	var log strings.Builder
	o := options
	o.Log = slog.New(slog.NewTextHandler(&log, nil))
	h, err := boot.Open(t.Context(), cfg, o)
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	aside, err := filepath.Glob(database + ".damaged-*")
	if err != nil || len(aside) != 1 {
		t.Fatalf("%v, %v", aside, err)
	}
	if left, err := os.ReadFile(aside[0]); err != nil || string(left) != garbage {
		t.Errorf("%.50s, %v", left, err)
	}
	for _, want := range []string{"level=ERROR", filepath.Base(aside[0]), "kindred keys issue", "backup"} {
		if !strings.Contains(log.String(), want) {
			t.Errorf("the log does not say %q: %s", want, log.String())
		}
	}
}
