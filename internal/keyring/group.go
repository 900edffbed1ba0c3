package keyring

import (
	"context"
	"errors"
	"fmt"

	"kindredgate/internal/exchange"
)

// This file is groups: keys that share limits.

// SetGroup makes a group, or gives it other limits, which hold from the next request on.
func (r *Keyring) SetGroup(ctx context.Context, g Group) error {
	if !printable(g.Name) {
		return exchange.InvalidParam("name", "a group needs a name of 1 to 100 printable characters")
	}
	if err := g.Limits.check("limits."); err != nil {
		return err
	}
	if err := r.records.PutGroup(ctx, g); err != nil {
		return fmt.Errorf("keep the group: %w", err)
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	r.groups[g.Name] = g.Limits
	return nil
}

// DropGroup removes a group that no valid key belongs to.
func (r *Keyring) DropGroup(ctx context.Context, name string) error {
	keys, err := r.Keys(ctx)
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.Group == name && k.Revoked.IsZero() {
			return exchange.InvalidParam("name", "the key %q (%s…) belongs to the group %q; give it another, or revoke it, first", k.Label, prefix+k.ID, name)
		}
	}
	err = r.records.DropGroup(ctx, name)
	if errors.Is(err, ErrUnknown) {
		return exchange.Errorf(exchange.NotFound, "group_not_found", "there is no group %q", name)
	} else if err != nil {
		return fmt.Errorf("remove the group: %w", err)
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	delete(r.groups, name)
	return nil
}

// GroupStanding is a group with how its limits stand.
type GroupStanding struct {
	Group
	Standing []Standing
}

// Groups lists the groups, in the order of their names.
func (r *Keyring) Groups() (list []GroupStanding) {
	r.counting.Lock()
	defer r.counting.Unlock()
	for _, name := range sortedKeys(r.groups) {
		limits := r.groups[name]
		list = append(list, GroupStanding{Group{name, limits}, r.standing([]bound{{account: r.account(groupPrefix + name), limits: limits}}, r.now())})
	}
	return list
}

// Group is what several keys may use together.
type Group struct {
	Name   string `json:"name"`
	Limits Limits `json:"limits"`
}
