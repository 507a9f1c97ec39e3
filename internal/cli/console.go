package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/machine"
)

func init() {
	register(groupCare, (*app).consoleCmd)
}

// consoleWait is how many seconds one call waits for a machine to say something.
const consoleWait = 20

func (a *app) consoleCmd() *cobra.Command {
	var follow bool
	var picture, typed string
	cmd := &cobra.Command{Use: "console COPY", Short: "What a machine says on its serial port, and shows on its screen",
		Long: "What a machine has said on its serial port: the last megabyte of it, also of one that\n" +
			"runs no longer. With --follow what it says from then on, until you press Ctrl-C. --type\n" +
			"types a line there. --picture writes what its screen shows to a file; the web console\n" +
			"has the screen itself, with keyboard and mouse.",
		Example: "  unvora console ferry-display\n" +
			"  unvora console tern/ferry-display --follow\n" +
			"  unvora console ferry-display --picture ferry.png",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeCopies("registered"),
	}
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what it says from now on")
	cmd.Flags().StringVar(&picture, "picture", "", "write what its screen shows to this file, as PNG; - for the output")
	cmd.Flags().StringVar(&typed, "type", "", "type this line on its serial port")
	cmd.MarkFlagsMutuallyExclusive("follow", "picture", "type")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if follow && a.output != "table" {
			return usage("--follow has no end, and --output %s would need one: leave one of both away", a.output)
		}
		c, err := a.client()
		if err != nil {
			return err
		}
		if picture != "" {
			return a.takePicture(cmd.Context(), c, args[0], picture)
		}
		if cmd.Flags().Changed("type") {
			res, err := c.TypeConsole(cmd.Context(), &openapi.TypeConsoleParams{Name: args[0]},
				openapi.TypeConsoleJSONRequestBody{Text: typed + "\r"})
			_, err = call[struct{}](c, res, err)
			return err
		}
		l, err := readConsole(cmd.Context(), c, args[0], 0, 0)
		if err != nil {
			return err
		}
		if !follow {
			return a.print(l, func() {
				if a.says(l); l.To == 0 {
					fmt.Fprintln(a.out, "It has said nothing yet. --follow waits for what it says.")
				}
			})
		}
		for {
			a.says(l)
			if l, err = readConsole(cmd.Context(), c, args[0], l.To, consoleWait); err != nil {
				if cmd.Context().Err() != nil {
					return nil // Ctrl-C is how it ends
				}
				return err
			}
		}
	}
	return cmd
}

// takePicture writes what a machine's screen shows to a file, which is there whole or not at all.
func (a *app) takePicture(ctx context.Context, c *caller, name, file string) error {
	res, err := c.GetPicture(ctx, &openapi.GetPictureParams{Name: name})
	if err == nil && res.StatusCode >= 400 {
		_, err = call[struct{}](c, res, nil)
		return err
	}
	if err != nil {
		_, err = call[struct{}](c, nil, err)
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil {
		return &exit{statusFailed, err}
	}
	if file == "-" {
		_, err = a.out.Write(raw)
		return err
	}
	if err := renameio.WriteFile(file, raw, 0o644); err != nil {
		return &exit{statusFailed, err}
	}
	fmt.Fprintf(a.errOut, "%s: what %s shows\n", file, name)
	return nil
}

// says prints what a machine has said, so that it can do nothing else to the terminal.
func (a *app) says(l *openapi.ConsoleLog) { fmt.Fprint(a.out, harmless(l.Text)) }

// harmless is text that does nothing to a terminal but stand there.
func harmless(said []byte) string {
	plain := ansi.Strip(strings.ToValidUTF8(string(said), "?"))
	return strings.Map(func(r rune) rune {
		if r != '\n' && r != '\t' && machine.Unseen(r) {
			return -1
		}
		return r
	}, plain)
}

func readConsole(ctx context.Context, c *caller, name string, from int64, wait int) (*openapi.ConsoleLog, error) {
	bounded, stop := context.WithTimeout(ctx, time.Duration(wait)*time.Second+time.Minute)
	defer stop()
	res, err := c.ReadConsole(bounded, &openapi.ReadConsoleParams{Name: name, From: &from, Wait: &wait})
	l, err := call[openapi.ConsoleLog](c, res, err)
	return &l, err
}
