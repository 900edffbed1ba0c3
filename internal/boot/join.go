package boot

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/config"
	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/fleet"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
	"kindredgate/internal/machine"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/server"
	"kindredgate/internal/system"
)

// joinedFile is where a machine keeps what it needs to come to its gate again.
const joinedFile = "joined.keys"

// membership is what that file has.
type membership struct {
	fleet.Credentials
	Invitation string `json:"invitation"` // that was taken up
}

// enter makes this machine a part of the gate that the configuration names: with what it was given before, or by an invitation.
func (app *App) enter(ctx context.Context) (m membership, err error) {
	cfg := app.Config.Join
	file := filepath.Join(app.Config.Data, joinedFile)
	servers, err := fleet.ParseAddresses(cfg.Gate)
	if err != nil {
		return m, fmt.Errorf("join.gate: %w", err)
	}
	raw, err := system.ReadFile(file, 1<<16)
	if err == nil {
		err = json.Unmarshal(raw, &m)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return m, fmt.Errorf("%s: %w; remove it and have this machine invited again", file, err)
	}
	text := cmp.Or(app.options.Token, os.Getenv(cfg.TokenEnv))
	if m.Seed != "" && text == "" || m.Seed != "" && strings.HasPrefix(text, m.Invitation+".") {
		m.Servers, m.Fingerprint = servers, cmp.Or(cfg.Fingerprint, m.Fingerprint) // which may have moved
		return m, nil
	}
	if text == "" {
		return m, errors.New("this machine has not joined a gate yet: it takes the token of an invitation (--token, or join.token_env), which \"kindred machines invite\" at the gate gives")
	}
	token, err := fleet.ParseToken(text)
	if err != nil {
		return m, err
	}
	if m.Credentials, err = fleet.Join(ctx, servers, token, cfg.Fingerprint); err != nil {
		return m, err
	}
	m.Invitation = token.ID
	if raw, err = json.Marshal(m); err != nil {
		return m, err
	}
	if err := WriteSecret(file, string(raw)); err != nil {
		return m, FolderError(app.Config.Data, err)
	}
	app.log.Info("this machine has joined a gate", "gate", cfg.Gate, "as", m.Name)
	return m, nil
}

// Enter makes this machine a part of the gate that the configuration names, and tells what it is called there. Without it Serve does so, and tries
// until it can.
func (app *App) Enter(ctx context.Context) (name string, err error) {
	m, err := app.enter(ctx)
	return m.Name, err
}

// enterAgain is how often a gate that this one is to join is tried.
const enterAgain = 10 * time.Second

// join works for another gate until ctx is done.
func (app *App) join(ctx context.Context) {
	defer func() {
		if p := recover(); p != nil {
			app.log.Error("working for another gate panicked", "error", fmt.Sprint(p))
		}
	}()
	for said := ""; ; {
		if m, err := app.enter(ctx); err == nil {
			if err = app.work(ctx, m.Credentials); err != nil {
				app.log.Error("this machine cannot work for the gate that it has joined", "error", err.Error())
			}
			return
		} else if ctx.Err() == nil && said != err.Error() {
			said = err.Error()
			app.log.Error("this machine cannot join the gate; it is tried again", "gate", app.Config.Join.Gate, "error", said)
		}
		select {
		case <-time.After(enterAgain):
		case <-ctx.Done():
			return
		}
	}
}

// work serves the gate until ctx is done.
func (app *App) work(ctx context.Context, c fleet.Credentials) error {
	w := &worker{app: app}
	if err := w.open(ctx); err != nil {
		return err
	}
	member, err := fleet.Serve(fleet.MemberOptions{Credentials: c, Runner: w, Offer: w.offer, Version: app.options.Version, Log: app.log})
	if err != nil {
		return err
	}
	<-ctx.Done()
	app.log.Info("no more work is taken for the gate; running answers may finish", "grace", server.UsualGrace.String())
	grace, cancel := context.WithTimeout(context.Background(), server.UsualGrace)
	defer cancel()
	return member.Shutdown(grace)
}

// joinKey is what the key is called that a gate's requests are counted and limited under, here.
const joinKey = "joined gate"

// worker does a gate's work with the models here. It has a key of its own, whose secret nobody knows: what the gate asks shows up and is
// limited as what any application asks.
type worker struct {
	app *App
	key string

	mu     sync.Mutex
	models []offered
	listed time.Time
}

// offered is a model that is offered, with what it is here.
type offered struct {
	fleet.Model
	id, path string
}

// open finds the key, or makes it.
func (w *worker) open(ctx context.Context) error {
	keys, err := w.app.Gate.Keys.Keys(ctx)
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.Label == joinKey && !k.Owner && k.Issuer == "" {
			w.key = k.ID // revoked or not: that is how its operator ends it
			return nil
		}
	}
	_, k, err := w.app.Gate.IssueKey(ctx, keyring.Terms{Label: joinKey})
	w.key = k.ID
	return err
}

// asker is the key, as it is now.
func (w *worker) asker() (keyring.Key, error) {
	k, valid := w.app.Gate.Keys.Now(w.key)
	if !valid {
		return k, exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine's operator lets it take no work: the key %q there is revoked or has expired", joinKey)
	}
	return k, nil
}

func (w *worker) origin(work fleet.Work, style dialect.Style, reading func(int)) gate.Origin {
	return gate.Origin{ID: strings.ToLower(rand.Text()), Style: style, Endpoint: "joined", Client: joinKey, Trace: work.Trace, Via: work.Via, Turn: work.Owner, Share: work.Share, Reading: reading}
}

// Run answers a request, as an exchange of this gate.
func (w *worker) Run(ctx context.Context, work fleet.Work, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		k, err := w.asker()
		if err != nil {
			yield(nil, err)
			return
		}
		style := dialect.Chat
		if req.Raw != nil {
			style = dialect.Completion
		}
		req.Model = work.Model
		x, err := w.app.Gate.Begin(ctx, k, w.origin(work, style, req.Reading), req)
		if err != nil {
			yield(nil, err)
			return
		}
		for event, err := range x.Events() {
			if !yield(event, err) {
				return
			}
		}
	}
}

// Embed has vectors made, as an exchange of this gate.
func (w *worker) Embed(ctx context.Context, work fleet.Work, req *exchange.Embedding) (*exchange.Vectors, error) {
	k, err := w.asker()
	if err != nil {
		return nil, err
	}
	req.Model = work.Model
	return w.app.Gate.Embed(ctx, k, w.origin(work, dialect.Embedding, nil), req)
}

// Rank has documents scored, as an exchange of this gate.
func (w *worker) Rank(ctx context.Context, work fleet.Work, req *exchange.Ranking) (*exchange.Relevance, error) {
	k, err := w.asker()
	if err != nil {
		return nil, err
	}
	req.Model = work.Model
	return w.app.Gate.Rank(ctx, k, w.origin(work, dialect.Rerank, nil), req)
}

// listEvery is how often the models are listed that are offered.
const listEvery = 3 * time.Second

// offer is what this machine offers now.
func (w *worker) offer() fleet.Offer {
	cfg := w.app.settings.holding().Join
	o := fleet.Offer{AtOnce: cfg.AtOnce}
	k, err := w.asker()
	switch {
	case err != nil:
		o.Away = exchange.AsError(err).Message
	case !cfg.Hours.Has(time.Now()):
		o.Away = "it takes work only in the hours " + string(cfg.Hours)
	case cfg.OnMains && machine.OnBattery():
		o.Away = "it runs on battery, and takes work only on mains"
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Since(w.listed) > listEvery {
		w.models, w.listed = w.list(k, cfg), time.Now()
	}
	for _, m := range w.models {
		m.Loaded = w.app.Gate.Loader.Status(m.path).State == native.Loaded
		m.Queued = w.app.Gate.InProgress(m.id)
		o.Models = append(o.Models, m.Model)
	}
	return o
}

// list is what may be offered: the models that are installed here, or what the configuration names.
func (w *worker) list(k keyring.Key, cfg config.Join) (list []offered) {
	all, _ := w.app.Gate.Offers(context.Background(), k) // what cannot be listed is not offered
	for _, o := range all {
		m := o.Model
		if named := slices.Contains(cfg.Models, o.Name); !named && (len(cfg.Models) > 0 || o.Preset != nil || o.Target != "" || m.Machine != "") {
			continue
		}
		list = append(list, offered{fleet.Model{Name: o.Name, Context: m.ContextLength, Use: string(m.Use), Digest: w.app.Gate.Fingerprint(m, o.Preset), Sees: m.Sees(), Tools: m.Template != nil && m.Template.Tools}, m.ID, m.Path})
	}
	return list
}
