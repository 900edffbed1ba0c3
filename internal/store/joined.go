package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"kindredgate/internal/fleet"
)

// Joined lists the machines that have joined and were not revoked, by their names.
func (s *Store) Joined(ctx context.Context) (list []fleet.Joined, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT id, name, seal, since FROM joined WHERE revoked = 0 ORDER BY name`)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var j fleet.Joined
		var since int64
		if err := rows.Scan(&j.ID, &j.Name, &j.Seal, &since); err != nil {
			return nil, err
		}
		j.Since = fromSeconds(since)
		list = append(list, j)
	}
	return list, told(rows.Err())
}

// SaveJoined keeps that a machine has joined, or that it was revoked.
func (s *Store) SaveJoined(ctx context.Context, j fleet.Joined) error {
	return s.exec(ctx, `INSERT INTO joined (id, name, seal, since, revoked) VALUES (?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET revoked = excluded.revoked`,
		j.ID, j.Name, j.Seal, seconds(j.Since), seconds(j.Revoked))
}

// SaveInvitation keeps an invitation, and forgets those that have expired.
func (s *Store) SaveInvitation(ctx context.Context, i fleet.Invitation) error {
	if err := s.exec(ctx, `DELETE FROM invitations WHERE until < ?`, time.Now().Unix()); err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO invitations (id, hash, name, until) VALUES (?, ?, ?, ?)`, i.ID, i.Hash[:], i.Name, seconds(i.Until))
}

const invitationColumns = `id, hash, name, until`

func scanInvitation(row *sql.Row) (i fleet.Invitation, err error) {
	var hash []byte
	var until int64
	if err := row.Scan(&i.ID, &hash, &i.Name, &until); errors.Is(err, sql.ErrNoRows) {
		return i, fleet.ErrUnknown
	} else if err != nil {
		return i, told(err)
	}
	if i.Until = fromSeconds(until); copy(i.Hash[:], hash) != len(i.Hash) {
		return i, fmt.Errorf("the hash of invitation %s has %d bytes", i.ID, len(hash))
	}
	return i, nil
}

// Invitation returns an invitation, or fleet.ErrUnknown.
func (s *Store) Invitation(ctx context.Context, id string) (fleet.Invitation, error) {
	return scanInvitation(s.reader.QueryRowContext(ctx, `SELECT `+invitationColumns+` FROM invitations WHERE id = ?`, id))
}

// TakeInvitation removes an invitation and returns it, for the first who asks; it returns fleet.ErrUnknown for others.
func (s *Store) TakeInvitation(ctx context.Context, id string) (fleet.Invitation, error) {
	defer s.wake()
	return scanInvitation(s.db.QueryRowContext(ctx, `DELETE FROM invitations WHERE id = ? RETURNING `+invitationColumns, id))
}
