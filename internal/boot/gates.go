package boot

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"regexp"
	"strings"
	"sync/atomic"
	"time"

	"kindredgate/internal/config"
	"kindredgate/internal/exchange"
	"kindredgate/internal/fleet"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
	"kindredgate/internal/server"
)

// unnameable is what cannot be in a gate's name.
var unnameable = regexp.MustCompile(`[^a-z0-9._-]+`)

// sharingName is what a gate is called among those that share what they know; "" for one that shares nothing.
func sharingName(c config.Config) string {
	if len(c.Fleet.NATS) == 0 {
		return ""
	}
	host, _ := os.Hostname() // without one it has the name below
	host = strings.Trim(unnameable.ReplaceAllString(strings.ToLower(host), "-"), "-._")
	return cmp.Or(c.Fleet.Name, host[:min(len(host), 32)], "gate")
}

// share has the gate share what it knows with those that have the same NATS servers.
func (app *App) share(ctx context.Context) error {
	name := sharingName(app.Config)
	if err := app.db.Share(ctx, name); err != nil {
		return err
	}
	known, err := app.db.Notes(ctx, gateNote)
	if err != nil {
		return err
	}
	gates, err := app.joining.Hub.Share(ctx, fleet.GatesOptions{
		Known: known, Met: app.met, Name: name, Program: app.options.Version, Changes: app.db, Log: app.log, Open: app.Gate.Requests,
		BaseURL: func() string {
			if s := app.asked.Load(); s != nil {
				return s.BaseURL()
			}
			return ""
		},
		Applied: app.takeOver,
		Relay: func(ctx context.Context, doc []byte, write func([]byte) error) error {
			if s := app.asked.Load(); s != nil {
				return s.Relayed(ctx, doc, write)
			}
			return exchange.Errorf(exchange.Unavailable, "gate_unavailable", "the gate is still starting")
		},
		Keep: cmp.Or(days(app.Config.Ledger.Days), days(90)), Responses: days(app.Config.Responses.Days),
	})
	if err != nil {
		return err
	}
	app.closing(gates.Close)
	limits, err := gates.Limits()
	if err != nil {
		return err
	}
	app.Gate.Keys.ShareLimits(name, limits)
	app.peers = &server.Peers{Gates: gates}
	app.rows = &rows{gates: gates, ledger: app.ledger, log: app.log, notes: app.db, queue: make(chan record.Record, mostRows)}
	app.closing(app.rows.finish)
	app.Gate.Observers = append(app.Gate.Observers, app.rows)
	app.log.Info("this gate shares what it knows", "as", name, "servers", strings.Join(app.Config.Fleet.NATS, ", "))
	return nil
}

// gateNote begins the names of notes of when gates were heard of.
const gateNote = "gate "

// met keeps that another gate is there.
func (app *App) met(name string, at time.Time, ends bool) {
	ctx := context.Background()
	var err error
	if ends {
		err = app.db.DropNote(ctx, gateNote+name)
	} else {
		err = app.db.PutNote(ctx, gateNote+name, at)
	}
	if err != nil {
		app.log.Warn("that another gate is there cannot be kept", "name", name, "error", err.Error())
	}
}

// takeOver has what another gate has changed take effect.
func (app *App) takeOver(kind, name string) {
	ctx := context.Background()
	var err error
	switch kind {
	case "keys":
		err = app.Gate.KeyChanged(ctx, name)
	case "groups":
		err = app.Gate.Keys.RefreshGroups(ctx)
	case "joined":
		err = app.joining.Hub.Refresh(ctx)
	}
	if err != nil {
		app.log.Error("what another gate has changed cannot take effect", "kind", kind, "name", name, "error", err.Error())
	}
}

// mostRows is how many rows of the ledger wait to be told; of more all since then are told later.
const mostRows = 10_000

// rows tells other gates of what the ledger has, so that they can read it when this gate is gone. It is an observer of the gate.
type rows struct {
	gates  *fleet.Gates
	ledger *ledger.Writer
	log    *slog.Logger
	queue  chan record.Record
	notes  notes
	behind time.Time // since when rows are still to be told; zero for none but those of the queue
	// dropped says that some were left out of the queue.
	dropped atomic.Bool
}

// notes keeps times over a restart.
type notes interface {
	Note(ctx context.Context, name string) (time.Time, error)
	PutNote(ctx context.Context, name string, at time.Time) error
}

// toldNote is the note of until when rows were told.
const toldNote = "rows_told"

// Began is of no interest.
func (*rows) Began(record.Record) {}

// Ended puts an exchange among those that others are to be told of.
func (r *rows) Ended(e record.Record) {
	if e.Unlisted {
		return
	}
	select {
	case r.queue <- e:
	default: // the servers are away: it is read from the ledger when they are back
		r.dropped.Store(true)
	}
}

// Times of telling rows.
const (
	rowTime   = 5 * time.Second
	rowsAgain = time.Second
	rowsBack  = 24 * time.Hour   // how far back a gate that starts looks for rows that it has not told
	rowsLong  = time.Hour        // how long an exchange may have taken that ended after others were told
	rowsNote  = 10 * time.Second // how often it notes how far it has come
)

// follow tells rows until ctx is done.
func (r *rows) follow(ctx context.Context) {
	defer func() {
		if p := recover(); p != nil {
			r.log.Error("telling other gates of the ledger panicked", "panic", fmt.Sprint(p))
		}
	}()
	noted, err := r.notes.Note(ctx, toldNote)
	if err != nil {
		r.log.Warn("until when other gates were told of the ledger is not known", "error", err.Error())
	}
	r.behind = time.Now().Add(-rowsBack)
	if told := noted.Add(-rowsLong); told.After(r.behind) {
		r.behind = told
	}
	back := func(to time.Time) {
		if to = to.Add(-rowsLong); r.behind.IsZero() || to.Before(r.behind) {
			r.behind = to
		}
	}
	for {
		if !r.behind.IsZero() && r.since(ctx, r.behind) == nil {
			r.behind = time.Time{}
		}
		select {
		case <-time.After(rowsAgain):
		case e := <-r.queue:
			if r.put(ctx, e) != nil {
				back(e.Begun)
			}
		case <-ctx.Done():
			return
		}
		if r.dropped.Swap(false) {
			back(time.Now().Add(-rowsLong))
		}
		if now := time.Now(); r.behind.IsZero() && len(r.queue) == 0 && now.Sub(noted) > rowsNote {
			if r.notes.PutNote(ctx, toldNote, now) == nil {
				noted = now
			}
		}
	}
}

// finish tells what is left when the gate stops, if that does not take long. What cannot be told is told at the next start.
func (r *rows) finish() error {
	ctx, cancel := context.WithTimeout(context.Background(), rowTime)
	defer cancel()
	if !r.behind.IsZero() {
		return r.left(r.since(ctx, r.behind))
	}
	for len(r.queue) > 0 {
		if err := r.put(ctx, <-r.queue); err != nil {
			return r.left(err)
		}
	}
	return nil
}

// left says that something is left to be told, which is no reason for a gate not to stop.
func (r *rows) left(err error) error {
	if err != nil {
		r.log.Warn("other gates could not be told of all of the ledger; they are at the next start", "error", err.Error())
	}
	return nil
}

func (r *rows) put(ctx context.Context, e record.Record) error {
	ctx, cancel := context.WithTimeout(ctx, rowTime)
	defer cancel()
	doc, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return r.gates.PutRow(ctx, e.ID, doc)
}

// since tells all rows since a time; those that others have are not kept twice for an hour, and are read once in any case.
func (r *rows) since(ctx context.Context, at time.Time) error {
	for e, err := range r.ledger.All(ctx, record.Filter{Since: at}) {
		if err != nil {
			return err
		}
		if e.State == record.Open {
			continue
		}
		if err := r.put(ctx, e); err != nil {
			return err
		}
	}
	return nil
}
