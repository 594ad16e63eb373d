package commands

import (
	"context"
	"fmt"
	"strings"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/planning"
)

// RestartCrossing begins again from nothing, or one table of it.
func (k *Commands) RestartCrossing(ctx context.Context, c *domain.Crossing, table, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Restart, c); err != nil {
		return err
	}
	tables, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if c.Kind == domain.KindCapture {
		return domain.Conflict("crossing %s only follows changes; there is no load to restart. If its log is lost, close "+
			"it and make one that copies the rows too", c.Name)
	}
	if err := planning.CheckKeptRows(c, tables, table); err != nil {
		return err
	}
	if table == "" {
		return k.restartAs(ctx, c, 0, actor)
	}
	if err := k.records.NotBusy(ctx, c.ID, c.Name, lifecycle.WorkPrepare, lifecycle.WorkRestart, lifecycle.WorkRefresh,
		lifecycle.WorkCutover,
		lifecycle.WorkClose); err != nil {
		return err
	}
	return k.tables.Restart(ctx, c, tables, table, actor)
}

// restartAs begins the whole crossing again; run is the due run that asked for it, or 0. A
// crossing that is paused is restarted and stays paused.
func (k *Commands) restartAs(ctx context.Context, c *domain.Crossing, run int64, actor string) error {
	again, err := k.records.RunAgain(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := k.work.Begin(ctx, c, lifecycle.WorkRestart, Beginning{Run: run, GoesOn: true}, actor); err != nil {
		return err
	}
	text := fmt.Sprintf("%s restarts %s from nothing", actor, c.Name)
	if len(again) > 0 {
		var names []string
		for _, o := range again {
			names = append(names, o.Name)
		}
		text += "; statements that run again: " + strings.Join(names, ", ")
	}
	if c.Condition == domain.ConditionPaused {
		text += "; it stays paused: what is loaded begins when it is resumed"
	}
	k.journal.Recordf(ctx, "warning", actor, c.Name, "", "restart", "%s", text)
	return nil
}
