package inventory

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
)

// heldJobs are those that could not go on, or could not be undone.
func (inv *Inventory) heldJobs(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Job](ctx, inv.Pool, jobSQL+` where state = 'held' and held_for <> ''
		order by id limit $1`, mostOfACause)
	var items []AttentionItem
	for _, j := range list {
		i := AttentionItem{ID: "held-job:" + j.ID.String(), Cause: CauseHeldJob, Subject: j.Operation + " " + j.Subject,
			Copies: []uuid.UUID{}, Since: since(j.CreatedAt), Evidence: strings.TrimSuffix(j.HeldFor, ".") + ".",
			Recommended: "Let it try again now", Act: &Act{Do: ActResume, Copies: []string{j.ID.String()}}}
		if !j.Back {
			i.Evidence += " It is past its point of no return, and can only go on."
		}
		if j.RetryAt != nil {
			i.Evidence += fmt.Sprintf(" It is tried again at %s.", j.RetryAt.UTC().Format("15:04:05 MST"))
		}
		items = append(items, i)
	}
	return items, err
}

func (inv *Inventory) clientsAway(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Job](ctx, inv.Pool, jobSQL+` where state = 'working' and needs_client
		and client_at < now() - make_interval(secs => $2) order by id limit $1`, mostOfACause, ClientSilence.Seconds())
	var items []AttentionItem
	for _, j := range list {
		items = append(items, AttentionItem{ID: "client-away:" + j.ID.String(), Cause: CauseClientAway,
			Subject: j.Operation + " " + j.Subject, Copies: []uuid.UUID{}, Since: j.ClientAt,
			Evidence: fmt.Sprintf("It waits for the computer of %s, of which nothing was heard since %s. Nine minutes "+
				"after that it is undone.", j.UserName, j.ClientAt.UTC().Format("15:04:05 MST")),
			Recommended: "Go on there (unvora jobs resume " + j.ID.String() +
				" FILE), or cancel the job: unvora jobs cancel " +
				j.ID.String()})
	}
	return items, err
}

// Of what another Unvora reads, those who asked for it there are told.
func (inv *Inventory) failedJobs(ctx context.Context) ([]AttentionItem, error) {
	type line struct {
		ID                               uuid.UUID
		Operation, Subject, Error, State string
		Parts, Failed                    int
		FinishedAt                       *time.Time
	}
	list, err := rows[line](ctx, inv.Pool, `select j.id, j.operation, j.subject, j.error, j.state, j.finished_at,
		j.parts,
		(select count(*) from jobs c where c.parent = j.id and c.state = 'failed' and not c.given_up) as failed
		from jobs j where j.state in ('failed', 'partly') and j.parent is null and j.operation <> 'lend'
		and j.finished_at > now() - make_interval(secs => $2)
		and not exists (select 1 from jobs k where k.operation = j.operation and k.subject = j.subject
		and k.created_at > j.created_at and k.state = 'done')
		order by j.finished_at desc limit $1`, mostOfACause, failedFor.Seconds())
	var items []AttentionItem
	for _, l := range list {
		if l.Parts > 0 && l.Failed == 0 {
			continue // what is left out of it somebody has cancelled
		}
		i := AttentionItem{ID: "failed-job:" + l.ID.String(), Cause: CauseFailedJob, Copies: []uuid.UUID{},
			Subject: l.Operation + " " + l.Subject, Since: l.FinishedAt,
			Evidence: strings.TrimSuffix(l.Error, ".") + ".", Recommended: "Try it again",
			Act: &Act{Do: ActAgain, Copies: []string{l.ID.String()}}}
		if l.Parts > 0 {
			i.Evidence = fmt.Sprintf("%d of %d machines failed, each for a reason of its own.", l.Failed, l.Parts)
			i.Recommended = "Go on with those: unvora jobs resume " + l.ID.String() + " --failed"
			i.Act = nil
		}
		items = append(items, i)
	}
	return items, err
}
