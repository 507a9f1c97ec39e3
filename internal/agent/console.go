package agent

import (
	"context"
	"crypto/tls"
	"errors"
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
	folder, err := a.listed(r)
	if err != nil {
		return err
	}
	console, ok := a.Driver.(driver.Console)
	if !ok {
		return a.unable("keeps no console")
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

// listed is the folder of a machine that the host lists, which a call names.
func (a *Agent) listed(r *http.Request) (string, error) {
	folder := r.URL.Query().Get("folder")
	if _, there := a.Records.Listed(folder); !there {
		return "", &hostlink.Fault{Code: hostlink.FaultUnknown, Message: a.Config.Name + " lists no machine in " +
			folder}
	}
	return folder, nil
}

func (a *Agent) unable(what string) error {
	return &hostlink.Fault{Code: hostlink.FaultWrong, Message: "the hypervisor of " + a.Config.Name + " " + what}
}

// serveType types on a machine's serial port.
func (a *Agent) serveType(w http.ResponseWriter, r *http.Request) error {
	folder, err := a.listed(r)
	if err != nil {
		return err
	}
	var typed hostlink.Typed
	if err := read(w, r, &typed); err != nil {
		return err
	}
	typing, ok := a.Driver.(driver.Typing)
	if !ok {
		return a.unable("has no serial port to type on")
	}
	if err := typing.Type(r.Context(), folder, typed.Text); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// servePicture hands out a picture of what a machine shows.
func (a *Agent) servePicture(w http.ResponseWriter, r *http.Request) error {
	folder, err := a.listed(r)
	if err != nil {
		return err
	}
	display, ok := a.Driver.(driver.Display)
	if !ok {
		return a.unable("shows no displays")
	}
	picture, err := display.Picture(r.Context(), folder)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "image/png")
	_, err = w.Write(picture)
	return err
}

// offerDisplay answers with a name under which a machine's display is reached, once.
func (a *Agent) offerDisplay(w http.ResponseWriter, r *http.Request) error {
	folder, err := a.listed(r)
	if err != nil {
		return err
	}
	if _, ok := a.Driver.(driver.Display); !ok {
		return a.unable("shows no displays")
	}
	return answer(w, hostlink.Offer{Name: a.offer(offer{display: folder, peer: peerName(r.TLS)})})
}

// serveDisplays carries displays on connections that were opened for that, until ctx ends.
func (a *Agent) serveDisplays(ctx context.Context) func(*http.Server, *tls.Conn, http.Handler) {
	return func(_ *http.Server, conn *tls.Conn, _ http.Handler) {
		defer conn.Close()
		if err := a.carryDisplay(ctx, conn); err != nil {
			a.Log.Warn("display", "peer", conn.RemoteAddr(), "error", err)
		}
	}
}

func (a *Agent) carryDisplay(ctx context.Context, conn *tls.Conn) error {
	name, err := hostlink.ReadName(conn)
	if err != nil {
		return err
	}
	v, _ := a.offers.LoadAndDelete(name)
	o, _ := v.(offer)
	state := conn.ConnectionState()
	if o.display == "" || time.Now().After(o.expires) || peerName(&state) != o.peer {
		return errors.New("no display waits under this name: each works once")
	}
	screen, err := a.Driver.(driver.Display).Display(ctx, o.display)
	if err != nil {
		return err
	}
	hostlink.Join(ctx, conn, screen)
	return nil
}

// told is the last of a log, where it is more than is told at once.
func told(l driver.Log) hostlink.ConsoleLog {
	over := max(0, len(l.Text)-hostlink.MostConsole)
	return hostlink.ConsoleLog{From: l.From + int64(over), To: l.From + int64(len(l.Text)), Text: l.Text[over:]}
}
