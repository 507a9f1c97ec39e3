package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/BurntSushi/toml"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"unvora.example/unvora/console"
	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/api"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
)

// setting of the service: its flag is name, its variable UNVORA_NAME, its key
// in unvora.toml name with underscores.
type setting struct{ name, standard, about string }

var settings = []setting{
	{"listen", "127.0.0.1:7480", "address and port; loopback only unless told otherwise"},
	{"database", "postgres://localhost/unvora", "address of the PostgreSQL database"},
	{"key-file", "unvora.key", "file with the key that secrets in the database are sealed with; made at the first start. Services on one database share it"},
	{"peers", "", "address and port where other Unvoras reach this one; none unless told"},
	{"metrics", "", "address and port where the service's figures are had by everybody who reaches it; else they need a token (/metrics)"},
	{"tls-cert", "", "certificate file; with tls-key, HTTPS is spoken"},
	{"tls-key", "", "key file of the certificate"},
	{"first-user", "admin", "administrator made at the first start"},
	{"first-password", "", "password of the first user; a random one is printed unless said"},
	{"log-level", "info", "debug, info, warn or error"},
}

// inForce finds each setting's value and where it comes from: flags, then
// variables, then the file, then what is standard.
func inForce(cmd *cobra.Command, file string) (values, from map[string]string, err error) {
	values, from = map[string]string{}, map[string]string{}
	var keys map[string]string
	if _, err := toml.DecodeFile(file, &keys); err != nil && (!errors.Is(err, fs.ErrNotExist) || cmd.Flags().Changed("file")) {
		return nil, nil, usage("configuration %s: %v", file, err)
	}
	known := map[string]bool{}
	for _, s := range settings {
		key, variable := strings.ReplaceAll(s.name, "-", "_"), "UNVORA_"+strings.ToUpper(strings.ReplaceAll(s.name, "-", "_"))
		known[key] = true
		values[s.name], from[s.name] = s.standard, "standard"
		if v, ok := keys[key]; ok {
			values[s.name], from[s.name] = v, file
		}
		if v, ok := os.LookupEnv(variable); ok {
			values[s.name], from[s.name] = v, variable
		}
		if f := cmd.Flags().Lookup(s.name); f != nil && f.Changed {
			values[s.name], from[s.name] = f.Value.String(), "--"+s.name
		}
	}
	for k := range keys {
		if !known[k] {
			return nil, nil, usage("configuration %s: there is no setting %q", file, k)
		}
	}
	return values, from, nil
}

func (a *app) serveCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service: inventory, jobs, API and console",
		Long:    "Run the service. Settings come from flags, then UNVORA_* variables, then unvora.toml.\nAny number of services may share one database.",
		Example: "  unvora serve --database postgres://localhost/unvora\n  unvora serve --show-config", Args: cobra.NoArgs,
	}
	for _, s := range settings {
		cmd.Flags().String(s.name, s.standard, s.about)
	}
	file := cmd.Flags().String("file", "unvora.toml", "configuration file")
	show := cmd.Flags().Bool("show-config", false, "print what is in force and where it comes from, and stop")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		values, from, err := inForce(cmd, *file)
		if err != nil {
			return err
		}
		if *show {
			for _, s := range settings {
				values[s.name] = harmless(s.name, values[s.name])
			}
			return a.print(values, func() {
				t := a.table("setting", "value", "from")
				for _, s := range settings {
					t.AppendRow([]any{s.name, dash(values[s.name]), from[s.name]})
				}
				t.Render()
			})
		}
		if err := a.serve(cmd.Context(), values); err != nil {
			return &exit{statusFailed, err}
		}
		return nil
	}
	return cmd
}

// harmless is a setting as it can be shown: without what opens something.
func harmless(name, value string) string {
	switch {
	case value == "":
	case name == "first-password":
		return "(set)"
	case name == "database":
		u, err := url.Parse(value)
		if err != nil || u.Scheme == "" { // of the form "host=… password=…"
			return regexp.MustCompile(`(?i)(pass\w*\s*=\s*)('[^']*'|\S+)`).ReplaceAllString(value, "${1}(set)")
		}
		q := u.Query()
		for k := range q {
			if strings.Contains(strings.ToLower(k), "pass") {
				q.Set(k, "(set)")
			}
		}
		u.RawQuery = q.Encode()
		return u.Redacted()
	}
	return value
}

func (a *app) logger(level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, fmt.Errorf("log level %q: there are debug, info, warn and error", level)
	}
	return slog.New(slog.NewTextHandler(a.errOut, &slog.HandlerOptions{Level: l})), nil
}

func (a *app) serve(ctx context.Context, v map[string]string) error {
	log, err := a.logger(v["log-level"])
	if err != nil {
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
	key, err := settledKey(ctx, inv, v["key-file"])
	if err != nil {
		return err
	}
	w, err := work.New(ctx, inv, key, log)
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
		fmt.Fprintf(a.out, "Sign in as %s with the password %s (shown only this once).\n", v["first-user"], password)
	}
	files, err := console.Files()
	if err != nil {
		return err
	}
	g, ctx := errgroup.WithContext(ctx)
	handler, figures, err := api.New(ctx, inv, w, people, files, log)
	if err != nil {
		return err
	}
	serving := func(h http.Handler) *http.Server {
		return &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
			BaseContext: func(net.Listener) context.Context { return ctx }}
	}
	server := serving(handler)
	if v["metrics"] != "" {
		own, err := net.Listen("tcp", v["metrics"])
		if err != nil {
			return fmt.Errorf("listen on %s: %w; choose another with --metrics", v["metrics"], err)
		}
		of := serving(figures)
		g.Go(func() error { return untilClosed(of.Serve(own)) })
		g.Go(func() error {
			<-ctx.Done()
			return of.Close()
		})
	}
	g.Go(func() error { return w.Run(ctx) })
	if v["peers"] != "" {
		g.Go(func() error { return w.ServePeers(ctx, v["peers"]) })
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

// untilClosed is the error of a server that has ended, if it was not told to.
func untilClosed(err error) error {
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// sealingKey reads the key, or makes one.
func sealingKey(file string) (keyring.Key, error) {
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := keyring.NewKey(rand.Reader)
		if err != nil {
			return key, err
		}
		err = writeKey(file, key, os.O_EXCL)
		if errors.Is(err, fs.ErrExist) { // another service was quicker
			return sealingKey(file)
		}
		if err != nil {
			return key, fmt.Errorf("make the key file: %w; choose another place with --key-file", err)
		}
		return key, nil
	}
	if err != nil {
		return keyring.Key{}, fmt.Errorf("key file: %w", err)
	}
	key, err := keyring.ParseKey(string(raw))
	if err != nil {
		return key, fmt.Errorf("key file %s: %w", file, err)
	}
	return key, nil
}
