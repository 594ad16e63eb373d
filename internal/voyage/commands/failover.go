package commands

import (
	"context"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

// FailOver lets a crossing whose load is complete go on with capture on the server that
// answers for its source now: a replica that was promoted. Where to go on is found by
// the GTID that was committed on the target together with the last applied change,
// so nothing is lost and nothing applied twice.
func (k *Commands) FailOver(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.FailOver, c); err != nil {
		return err
	}
	if c.Kind == domain.KindLoad {
		return domain.Conflict("crossing %s follows no changes; there is nothing to take up", c.Name)
	}
	src, dst, err := k.databases.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	now, err := src.Identity(ctx)
	if err != nil {
		return err
	}
	was, err := k.records.ServerOf(ctx, c.ID)
	if err != nil {
		return err
	}
	if now == was {
		return domain.Conflict("the server that %s began with answers for %s (%s); resume it", c.Name, c.Source, now)
	}
	epoch, err := k.records.KickStream(ctx, c.ID)
	if err != nil {
		return err
	}
	// From here on nobody who read from the first server can commit.
	if _, err := dst.TakeStream(ctx, c.UID, epoch, c.StartAt); err != nil {
		return err
	}
	at, portable, err := dst.StreamAt(ctx, c.UID)
	if err != nil {
		return err
	}
	if at.Before(c.MaxRead) {
		return domain.Conflict("changes are applied only up to %s, and rows were read at up to %s: the target equals no "+
			"moment of the source yet. Restart %s to load from this server",
			k.databases.Position(ctx, c.Source, at), k.databases.Position(ctx, c.Source, c.MaxRead), c.Name)
	}
	to, err := src.ResolveGTID(ctx, portable)
	if err != nil {
		return err
	}
	if err := dst.MoveStream(ctx, c.UID, epoch, to); err != nil {
		return err
	}
	if err := k.records.Rebase(ctx, c.ID, to, now); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "warning", actor, c.Name, "capture", "take up",
		"%s let %s go on from another server (%s; it was %s): after %s, which is %s there", actor, c.Name, now, was, portable,
		k.databases.Position(ctx, c.Source, to))
	return k.ResumeCrossing(ctx, c, actor)
}
