package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"yorvet.example/yorvet/internal/core/schedule"
)

// An Item is something that is watched: one of a plan, with a timing.
type Item struct{ Plan, Name, Timing string }

// ItemRow returns what all processes know of an item; one that is not known yet gets the row first.
func (s *Store) ItemRow(ctx context.Context, i Item, first schedule.Row) (schedule.Row, error) {
	row, err := s.itemRow(ctx, i)
	if !errors.Is(err, sql.ErrNoRows) {
		return row, err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO items (plan, item, timing, slot, due, owner) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT DO NOTHING`, plain(i.Plan), plain(i.Name), i.Timing, first.Slot.UnixMilli(), first.Due.UnixMilli(), s.owner)
	if err != nil {
		return row, err
	}
	return s.itemRow(ctx, i)
}

func (s *Store) itemRow(ctx context.Context, i Item) (row schedule.Row, err error) {
	var slot, due, lease int64
	err = s.db.QueryRowContext(ctx, `SELECT slot, due, holder, lease, tries FROM items
		WHERE plan = $1 AND item = $2 AND timing = $3 AND owner = $4`, plain(i.Plan), plain(i.Name), i.Timing, s.owner).
		Scan(&slot, &due, &row.Holder, &lease, &row.Tries)
	row.Slot, row.Due, row.Lease = time.UnixMilli(slot), time.UnixMilli(due), at(lease)
	return row, err
}

const swap = `UPDATE items SET slot = $1, due = $2, holder = $3, lease = $4, tries = $5
	WHERE plan = $6 AND item = $7 AND timing = $8 AND slot = $9 AND due = $10 AND holder = $11 AND tries = $12
	AND owner = $13`

func swapArgs(owner string, i Item, old, new schedule.Row) []any {
	return []any{
		new.Slot.UnixMilli(), new.Due.UnixMilli(), new.Holder, milliseconds(new.Lease), new.Tries, plain(i.Plan),
		plain(i.Name), i.Timing, old.Slot.UnixMilli(), old.Due.UnixMilli(), old.Holder, old.Tries, owner,
	}
}

// Swap puts a row of an item in place of another one, if that is still there; the lease of a
// holder may have been renewed.
func (s *Store) Swap(ctx context.Context, i Item, old, new schedule.Row) (bool, error) {
	return swapped(s.db.ExecContext(ctx, swap, swapArgs(s.owner, i, old, new)...))
}

// Swap is Store.Swap.
func (t *Tx) Swap(i Item, old, new schedule.Row) (bool, error) {
	return swapped(t.tx.ExecContext(t.ctx, swap, swapArgs(t.owner, i, old, new)...))
}

func swapped(done sql.Result, err error) (bool, error) {
	if err != nil {
		return false, err
	}
	n, err := done.RowsAffected()
	return n == 1, err
}
