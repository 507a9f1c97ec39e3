package inventory

import (
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
)

// findsJobs makes the finder of a cause that jobs are of, each by itself, the oldest first.
func findsJobs(cause Cause, where string, tell func(*Job) AttentionItem) finder {
	return finds(finder{cause: cause, id: `'` + string(cause) + `:' || id`, from: "jobs where " + where,
		order: [2]string{"id", "id"}, kinds: [2]string{"uuid", "uuid"}}, jobColumns,
		func(j *Job) [2]string { return [2]string{j.ID.String(), j.ID.String()} }, each(tell))
}

// Jobs that could not go on, or could not be undone.
var findHeldJobs = findsJobs(CauseHeldJob, "state = 'held' and held_for <> ''", func(j *Job) AttentionItem {
	i := AttentionItem{ID: "held-job:" + j.ID.String(), Subject: j.Operation + " " + j.Subject,
		Copies: []uuid.UUID{}, Since: since(j.CreatedAt), Evidence: strings.TrimSuffix(j.HeldFor, ".") + ".",
		Recommended: "Let it try again now", Act: &Act{Do: ActResume, Copies: []string{j.ID.String()}}}
	if !j.Back {
		i.Evidence += " It is past its point of no return, and can only go on."
	}
	if j.RetryAt != nil {
		i.Evidence += fmt.Sprintf(" It is tried again at %s.", j.RetryAt.UTC().Format("15:04:05 MST"))
	}
	return i
})

var findClientsAway = findsJobs(CauseClientAway, fmt.Sprintf(`state = 'working' and needs_client
	and client_at < now() - make_interval(secs => %f)`, ClientSilence.Seconds()), func(j *Job) AttentionItem {
	return AttentionItem{ID: "client-away:" + j.ID.String(),
		Subject: j.Operation + " " + j.Subject, Copies: []uuid.UUID{}, Since: j.ClientAt,
		Evidence: fmt.Sprintf("It waits for the computer of %s, of which nothing was heard since %s. Nine minutes "+
			"after that it is undone.", j.UserName, j.ClientAt.UTC().Format("15:04:05 MST")),
		Recommended: "Go on there (unvora jobs resume " + j.ID.String() +
			" FILE), or cancel the job: unvora jobs cancel " +
			j.ID.String()}
})

// undone is a job that has failed, or of whose children some have.
type undone struct {
	ID                        uuid.UUID
	Operation, Subject, Error string
	Parts, Failed             int
	FinishedAt                *time.Time
}

// Of what another Unvora reads, those who asked for it there are told. What somebody has cancelled out of a job over
// several machines has not failed.
var findFailedJobs = finds(finder{cause: CauseFailedJob, id: `'failed-job:' || j.id`,
	from: fmt.Sprintf(`jobs j cross join lateral (select count(*) as failed from jobs c where c.parent = j.id
		and c.state = 'failed' and not c.given_up) x
		where j.state in ('failed', 'partly') and j.parent is null and j.operation <> 'lend'
		and j.finished_at > now() - make_interval(secs => %f)
		and not exists (select 1 from jobs k where k.operation = j.operation and k.subject = j.subject
		and k.created_at > j.created_at and k.state = 'done') and (j.parts = 0 or x.failed > 0)`,
		failedFor.Seconds()),
	order: [2]string{"j.id", "j.id"}, kinds: [2]string{"uuid", "uuid"}},
	`j.id, j.operation, j.subject, j.error, j.finished_at, j.parts, x.failed`,
	func(l *undone) [2]string { return [2]string{l.ID.String(), l.ID.String()} }, each(func(l *undone) AttentionItem {
		i := AttentionItem{ID: "failed-job:" + l.ID.String(), Copies: []uuid.UUID{},
			Subject: l.Operation + " " + l.Subject, Since: l.FinishedAt,
			Evidence: strings.TrimSuffix(l.Error, ".") + ".", Recommended: "Try it again",
			Act: &Act{Do: ActAgain, Copies: []string{l.ID.String()}}}
		if l.Parts > 0 {
			i.Evidence = fmt.Sprintf("%d of %d machines failed, each for a reason of its own.", l.Failed, l.Parts)
			i.Recommended = "Go on with those: unvora jobs resume " + l.ID.String() + " --failed"
			i.Act = nil
		}
		return i
	}))
