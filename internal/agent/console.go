package agent

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/hostlink"
)

// consoleAgain is after which time it is looked again whether a machine has said more.
const consoleAgain = 100 * time.Millisecond

// serveConsole tells what a machine has said on its serial port from a position on, and waits for more.
func (a *Agent) serveConsole(w http.ResponseWriter, r *http.Request) error {
	q := r.URL.Query()
	from, _ := strconv.ParseInt(q.Get("from"), 10, 64)
	wait, _ := time.ParseDuration(q.Get("wait"))
	folder := q.Get("folder")
	if _, listed := a.Records.Register()[folder]; !listed {
		return &hostlink.Fault{Code: hostlink.FaultUnknown, Message: a.Config.Name + " lists no machine in " + folder}
	}
	console, ok := a.Driver.(driver.Console)
	if !ok {
		return &hostlink.Fault{Code: hostlink.FaultWrong, Message: "the hypervisor of " + a.Config.Name +
			" keeps no console"}
	}
	ctx, stop := context.WithTimeout(r.Context(), min(wait, mostWait))
	defer stop()
	for {
		l, err := console.Log(r.Context(), folder, from)
		if err != nil {
			return err
		}
		if len(l.Text) > 0 || ctx.Err() != nil {
			return answer(w, told(l))
		}
		select {
		case <-time.After(consoleAgain):
		case <-ctx.Done():
		}
	}
}

// told is the last of a log, where it is more than is told at once.
func told(l driver.Log) hostlink.ConsoleLog {
	over := max(0, len(l.Text)-hostlink.MostConsole)
	return hostlink.ConsoleLog{From: l.From + int64(over), To: l.From + int64(len(l.Text)), Text: l.Text[over:]}
}
