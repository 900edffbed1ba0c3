package fleet

import (
	"context"
	"errors"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// This file is the rows of ledgers, each gate's under its name, which others read while it is gone.

const ledgerSubject = "gates.ledger"

// Row is a row of a ledger, sealed on the way.
type row struct {
	Doc []byte `json:"doc"`
}

// PutRow leaves a row where other gates can read it, once for each id.
func (g *Gates) PutRow(ctx context.Context, id string, doc []byte) error {
	sealed, err := seal(g.hub.keys.seal, g.hub.keys.sealPublic, row{doc})
	if err != nil {
		return err
	}
	_, err = g.js.PublishMsg(ctx, &nats.Msg{Subject: ledgerSubject + "." + key(g.opts.Name), Data: sealed}, jetstream.WithMsgID(id), jetstream.WithRetryAttempts(0))
	return err
}

// rowsTime is how long reading the rows of a gate may take.
const rowsTime = 20 * time.Second

// Rows reads the rows of a gate that began since a time, the oldest first, until take returns an error.
func (g *Gates) Rows(ctx context.Context, gate string, since time.Time, take func(doc []byte) error) error {
	ctx, cancel := context.WithTimeout(ctx, rowsTime)
	defer cancel()
	stream, err := g.js.Stream(ctx, ledgerStream)
	if err != nil {
		return err
	}
	subject := ledgerSubject + "." + key(gate)
	last, err := stream.GetLastMsgForSubject(ctx, subject)
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	config := jetstream.OrderedConsumerConfig{FilterSubjects: []string{subject}, DeliverPolicy: jetstream.DeliverAllPolicy}
	if !since.IsZero() {
		config.DeliverPolicy, config.OptStartTime = jetstream.DeliverByStartTimePolicy, &since
	}
	consumer, err := stream.OrderedConsumer(ctx, config)
	if err != nil {
		return err
	}
	messages, err := consumer.Messages()
	if err != nil {
		return err
	}
	defer messages.Stop()
	stop := context.AfterFunc(ctx, messages.Stop)
	defer stop()
	if last.Time.Before(since) {
		return nil
	}
	for {
		msg, err := messages.Next()
		if err != nil {
			return errors.Join(ctx.Err(), err)
		}
		meta, err := msg.Metadata()
		if err != nil {
			return err
		}
		var r row
		if unseal(g.hub.keys.seal, g.hub.keys.sealPublic, msg.Data(), &r) == nil {
			if err := take(r.Doc); err != nil {
				return err
			}
		}
		if meta.Sequence.Stream >= last.Sequence {
			return nil
		}
	}
}

// RowsOf are the names of gates that have left rows, or are there.
func (g *Gates) RowsOf(ctx context.Context) (names []string, err error) {
	stream, err := g.js.Stream(ctx, ledgerStream)
	if err != nil {
		return nil, err
	}
	info, err := stream.Info(ctx, jetstream.WithSubjectFilter(ledgerSubject+".*"))
	if err != nil {
		return nil, err
	}
	for subject := range info.State.Subjects {
		if name, ok := unkey(subject[len(ledgerSubject)+1:]); ok {
			names = append(names, name)
		}
	}
	return names, nil
}
