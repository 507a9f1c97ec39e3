// Package service is the service put together: its settings, its key, its listeners, and what runs behind them.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"time"

	"golang.org/x/sync/errgroup"

	"unvora.example/unvora/console"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/api"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
	"unvora.example/unvora/internal/work/tell"
)

// Run serves until ctx ends. What a person at the terminal has to know goes to says.
func Run(ctx context.Context, v Values, log *slog.Logger, says io.Writer) error {
	var keep work.Terms
	var errs [2]error
	keep.Jobs, errs[0] = v.term("keep-jobs")
	keep.History, errs[1] = v.term("keep-history")
	if err := errors.Join(errs[:]...); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", v["listen"])
	if err != nil {
		return fmt.Errorf("listen on %s: %w; choose another with --listen", v["listen"], err)
	}
	defer listener.Close()
	inv, err := inventory.Open(ctx, v["database"])
	if err != nil {
		return err
	}
	defer inv.Close()
	key, err := Key(ctx, inv, v["key-file"])
	if err != nil {
		return err
	}
	w, err := work.New(ctx, inv, key, log)
	if err != nil {
		return err
	}
	w.Terms = keep
	teller, err := tell.New(inv, key, tell.Settings{MailServer: v["mail-server"], MailFrom: v["mail-from"],
		Address: v["address"]}, log)
	if err != nil {
		return err
	}
	people, err := access.New(inv, key)
	if err != nil {
		return err
	}
	password, err := people.FirstUser(ctx, v["first-user"], v["first-password"])
	if err != nil {
		return err
	}
	if password != "" && v["first-password"] == "" {
		fmt.Fprintf(says, "Sign in as %s with the password %s (shown only this once).\n", v["first-user"], password)
	}
	files, err := console.Files()
	if err != nil {
		return err
	}
	g, ctx := errgroup.WithContext(ctx)
	handler, figures, err := api.New(ctx, api.Rooms{Inventory: inv, Work: w, Access: people, Teller: teller}, files,
		log)
	if err != nil {
		return err
	}
	server := serving(ctx, handler, log)
	if v["metrics"] != "" {
		if err := serveFigures(ctx, g, figures, v["metrics"], log); err != nil {
			return err
		}
	}
	g.Go(func() error { return w.Run(ctx) })
	g.Go(func() error { return teller.Run(ctx) })
	if v["peers"] != "" {
		g.Go(func() error { return w.Peers.Serve(ctx, v["peers"]) })
	}
	g.Go(func() error {
		log.Info("listening", "address", listener.Addr().String())
		if v["tls-cert"] != "" {
			return untilClosed(server.ServeTLS(listener, v["tls-cert"], v["tls-key"]))
		}
		return untilClosed(server.Serve(listener))
	})
	g.Go(func() error {
		<-ctx.Done()
		end, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if server.Shutdown(end) != nil {
			server.Close()
		}
		return nil
	})
	return g.Wait()
}

// Restored readies the database of a service that was brought back from a copy. It returns how many jobs are held.
func Restored(ctx context.Context, v Values) (held int64, err error) {
	inv, err := inventory.Open(ctx, v["database"])
	if err != nil {
		return 0, err
	}
	defer inv.Close()
	return inv.Restored(ctx)
}

// serving is a server that gives nobody endless time.
func serving(ctx context.Context, h http.Handler, log *slog.Logger) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog:    slog.NewLogLogger(log.Handler(), slog.LevelDebug),
		BaseContext: func(net.Listener) context.Context { return ctx }}
}

// serveFigures serves the service's figures at an address of their own.
func serveFigures(ctx context.Context, g *errgroup.Group, figures http.Handler, address string,
	log *slog.Logger) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; choose another with --metrics", address, err)
	}
	server := serving(ctx, figures, log)
	g.Go(func() error { return untilClosed(server.Serve(listener)) })
	g.Go(func() error {
		<-ctx.Done()
		return server.Close()
	})
	return nil
}

// untilClosed is the error of a server that has ended, if it was not told to.
func untilClosed(err error) error {
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
