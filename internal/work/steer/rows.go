package steer

import (
	"cmp"
	"context"

	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// run is a step that is being carried out, or taken back.
type run struct {
	*Steerer
	j     *inventory.Job
	s     *inventory.Step
	host  *inventory.Host // nil for the service's own steps
	again bool            // it was begun before
}

// row is how steps of a kind are carried out. Where they run, and whether they can be taken back at all, is in
// plan.Kinds. What a host's agent does and undoes is in the agent's own table, what a manager does in that of its kind.
type row struct {
	// service carries out a step of the service's own, and records that it is done.
	service func(ctx context.Context, r *run) (wait, error)
	// task makes what the host's agent is asked. Nil: the step's parameters as the plan has them.
	task func(ctx context.Context, r *run) (any, error)
	// effect records, with the end of the step or with its undoing, what the inventory shows of it before the next
	// survey.
	effect func(ctx context.Context, tx pgx.Tx, r *run, undone bool) error
	// release undoes, for a step of the service's own, what can't be undone in a transaction.
	release func(ctx context.Context, r *run) error
	// unbegun effects are taken back also where the step was not done yet.
	unbegun bool
}

// rows is the table of steps. Every kind has a row.
var rows = map[string]row{
	plan.KindStop:  {effect: noteStop},
	plan.KindStart: {task: startTask, effect: noteStart},

	plan.KindPause:   {effect: notePause},
	plan.KindSuspend: {effect: noteSuspend},
	plan.KindAdapt:   {task: adaptTask},
	plan.KindFreeze:  {},
	plan.KindCommit:  {},
	plan.KindGoBack:  {},

	plan.KindDropSnapshot:  {},
	plan.KindMergeSnapshot: {},

	plan.KindFetchDisk: {task: fetchTask},
	plan.KindCarry:     {task: carryTask},
	plan.KindFollow:    {task: followTask},
	plan.KindPack:      {task: packTask},
	plan.KindHandOut:   {task: packTask},
	plan.KindSend:      {task: sendTask},
	plan.KindPlace:     {task: placeTask},
	plan.KindAlter:     {task: alterTask},
	plan.KindRelink:    {},
	plan.KindMend:      {},
	plan.KindLayer:     {},
	plan.KindDelist:    {},
	plan.KindFence:     {},
	plan.KindFreePool:  {},
	plan.KindTakePool:  {},
	plan.KindTakeAway:  {},
	plan.KindGiveBack:  {},
	plan.KindUseAhead:  {},

	plan.KindMakeSwitch: {effect: noteMadeSwitch},
	plan.KindKeepSwitch: {},
	plan.KindDropSwitch: {effect: noteDroppedSwitch},

	plan.KindTakeImages:  {},
	plan.KindDropImages:  {},
	plan.KindTellPeer:    {},
	plan.KindMakeRoom:    {},
	plan.KindMakeThere:   {},
	plan.KindRemoveThere: {},

	plan.KindGiveIDs:   {service: giveIDs, effect: takeAddressesBack, unbegun: true},
	plan.KindRecord:    {service: record, effect: unrecord},
	plan.KindForget:    {service: forget},
	plan.KindNoteAhead: {service: noteAhead},
	plan.KindLend:      {service: lend, release: endLease},
	plan.KindAwait:     {service: await},
}

// finish records that the step is done, in one transaction with what it changes.
func (r *run) finish(ctx context.Context, change func(tx pgx.Tx) error) error {
	return r.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := change(tx); err != nil {
			return err
		}
		r.s.State = inventory.StepDone
		return inventory.In(tx).PutStep(ctx, r.j.Epoch, r.s)
	})
}

// noteStop records that a copy no longer runs, as far as the inventory shows it before the next survey.
func noteStop(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	return r.notePower(ctx, tx, machine.Stopped, machine.Running, undone)
}

func noteStart(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	return r.notePower(ctx, tx, machine.Running, machine.Stopped, undone)
}

func notePause(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	return r.notePower(ctx, tx, machine.Paused, machine.Running, undone)
}

func noteSuspend(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	return r.notePower(ctx, tx, machine.Suspended, machine.Running, undone)
}

func (r *run) notePower(ctx context.Context, tx pgx.Tx, done, before machine.State, undone bool) error {
	do, err := inventory.DoOf[plan.Power](r.s)
	if err != nil {
		return err
	}
	was, err := powered(r.s)
	if err != nil {
		return err
	}
	done, before = cmp.Or(was.Is, done), cmp.Or(was.Was, before)
	if undone {
		done = before
	}
	if do.Copy == "" { // one that this job makes
		made, err := r.j.Recorded(r.s.Part)
		if err != nil {
			return err
		}
		do.Copy = inventory.RecordedCopy(made).String()
	}
	return inventory.In(tx).SetState(ctx, do.Copy, done)
}

func noteMadeSwitch(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	return r.noteSwitch(ctx, tx, !undone)
}

func noteDroppedSwitch(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	return r.noteSwitch(ctx, tx, undone)
}

func (r *run) noteSwitch(ctx context.Context, tx pgx.Tx, there bool) error {
	do, err := inventory.DoOf[plan.SwitchWork](r.s)
	if err != nil {
		return err
	}
	return inventory.In(tx).NoteSwitch(ctx, *r.s.HostID, do.Switch, there)
}
