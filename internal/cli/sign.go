package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/BurntSushi/toml"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupRun, (*app).loginCmd)
}

func (a *app) loginCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "login [NAME]",
		Short:   "Sign in, and keep a token in the client profile",
		Example: "  unvora login admin\n  unvora login admin --server http://127.0.0.1:7480",
		Args:    cobra.MaximumNArgs(1)}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		p, err := a.readProfile(false)
		if err != nil {
			return err
		}
		name := firstOf(strings.Join(args, ""), "admin")
		password, err := a.askPassword(cmd.Context(), "Password of "+name+": ")
		if err != nil {
			return err
		}
		token, err := SignIn(cmd.Context(), p.Server, name, password)
		if err != nil {
			return err
		}
		file := firstOf(a.config, os.Getenv("UNVORA_CONFIG"), profilePath("client.toml"))
		if err := WriteProfile(file, p.Server, token); err != nil {
			return &exit{statusFailed, err}
		}
		fmt.Fprintf(a.out, "Signed in at %s as %s; the token is kept in %s.\n", p.Server, name, file)
		return nil
	}
	return cmd
}

func (a *app) askPassword(ctx context.Context, prompt string) (string, error) {
	if !term.IsTerminal(int(a.in.Fd())) {
		line, err := a.lines.ReadString('\n')
		if err != nil && line == "" {
			return "", usage("the password is read from the terminal, or from a pipe")
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
	return a.secret(ctx, prompt)
}

// secret asks for something that is not to be seen while it is typed. After Ctrl-C the terminal shows again what is
// typed.
func (a *app) secret(ctx context.Context, prompt string) (string, error) {
	fd := int(a.in.Fd())
	before, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	return answered(ctx, a.errOut, prompt, func() (string, error) {
		raw, err := term.ReadPassword(fd)
		fmt.Fprintln(a.errOut)
		return string(raw), err
	}, func() { _ = term.Restore(fd, before) })
}

// SignIn makes a token for the client with a name and a password.
func SignIn(ctx context.Context, server, name, password string) (string, error) {
	var cookie, csrf string
	raw, err := openapi.NewClient(strings.TrimSuffix(server, "/")+"/api/v1",
		openapi.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			if cookie != "" {
				r.AddCookie(&http.Cookie{Name: "unvora_session", Value: cookie})
				r.Header.Set("X-CSRF-Token", csrf)
			}
			return nil
		}))
	if err != nil {
		return "", err
	}
	c := &caller{raw, server, true}
	res, err := c.SignIn(ctx, openapi.SignInJSONRequestBody{Name: name, Password: password})
	var cookies []*http.Cookie
	if err == nil {
		cookies = res.Cookies()
	}
	session, err := call[openapi.Session](c, res, err)
	if err != nil {
		return "", err
	}
	for _, k := range cookies {
		if k.Name == "unvora_session" {
			cookie, csrf = k.Value, session.Csrf
		}
	}
	host, err := os.Hostname()
	if err != nil {
		host = "a computer"
	}
	type made struct {
		Token string `json:"token"`
	}
	res, err = c.MakeToken(ctx, openapi.MakeTokenJSONRequestBody{Name: "client on " + host})
	t, err := call[made](c, res, err)
	if err != nil {
		return "", err
	}
	res, err = c.SignOut(ctx)
	_, err = call[struct{}](c, res, err)
	return t.Token, err
}

// WriteProfile writes a client profile that only its owner can read.
func WriteProfile(file, server, token string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(toml.NewEncoder(f).Encode(profile{server, token}), f.Close())
}
