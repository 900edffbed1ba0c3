package gate

import (
	"kindredgate/internal/exchange"
)

// want is what an exchange asks of its targets.
type want struct {
	fits func(t target) error // why a target can never serve it; nil if it may
	aim  func(t target) error // makes the request what the target wants
}

// start finds the targets of an exchange, has it counted against its key's limits, unless another part of the request was, and turns to the
// first target. Whatever the exchange is for, this is its way to a runner, and [Exchange.attempt] the next step.
func (x *Exchange) start(w want, other *Exchange, find func() (choices, error)) error {
	c, err := find()
	if err == nil {
		err = x.gate.circles(x.from.Via)
	}
	if err == nil {
		err = w.fits(c.targets[0])
	}
	if err == nil {
		err = x.admit(other)
	}
	if err != nil {
		return err
	}
	x.want, x.others, x.chain, x.find = w, c.targets[1:], c.chain, find
	x.record.Placed = c.placed
	if x.run != nil {
		x.others = nil // its steps find theirs
	}
	if err := x.turn(c.targets[0]); err != nil {
		return err
	}
	x.admitted()
	return nil
}

// turn makes a target the one that is asked.
func (x *Exchange) turn(t target) error {
	if err := x.want.fits(t); err != nil {
		return err
	}
	runner, err := x.gate.runner(t.model)
	if err != nil {
		return err
	}
	if err := x.want.aim(t); err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.model, x.runner = t.model, runner
	x.record.Answered, x.record.Machine = t.model.ID, t.model.Machine
	return nil
}

// attempt asks one target after the other, until one has begun to answer or none is left. ask reports whether anything has gone out to the
// client, after which no other target can be asked.
func (x *Exchange) attempt(ask func() (begun bool, err error)) error {
	for {
		begun, err := ask()
		if err == nil || begun || !x.next(err) {
			return err
		}
	}
}

// next turns to the next target, after one has failed before its first token. It reports whether there is one.
func (x *Exchange) next(failed error) bool {
	if x.ctx.Err() != nil || !elsewhereToo(failed) {
		return false
	}
	if x.tried == nil {
		x.tried = map[string]bool{}
	}
	x.tried[x.model.ID] = true
	for {
		if len(x.others) == 0 && !x.refind() {
			return false
		}
		t := x.others[0]
		x.others = x.others[1:]
		if x.gate.unwell(t.model) != "" {
			continue
		}
		before := x.model.ID
		if err := x.turn(t); err != nil {
			continue
		}
		x.mu.Lock()
		x.record.PassedOver = append(x.record.PassedOver, before+" "+exchange.AsError(failed).Code)
		x.mu.Unlock()
		x.gate.moved(before, x.model.ID)
		return true
	}
}

// refind looks once more for targets, when all have failed: meanwhile a machine may have come back. It reports whether there are any that were not
// tried.
func (x *Exchange) refind() bool {
	find := x.find
	if x.find = nil; find == nil || x.run != nil {
		return false
	}
	c, err := find()
	if err != nil {
		return false
	}
	for _, t := range c.targets {
		if !x.tried[t.model.ID] {
			x.others = append(x.others, t)
		}
	}
	return len(x.others) > 0
}
