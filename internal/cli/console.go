package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
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
	cmd := &cobra.Command{Use: "console COPY", Short: "What a machine has said on its serial port",
		Long: "What a machine has said on its serial port: the last megabyte of it, also of one that\n" +
			"runs no longer. With --follow what it says from then on, until you press Ctrl-C.",
		Example: "  unvora console ferry-display\n" +
			"  unvora console tern/ferry-display --follow",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeCopies("registered"),
	}
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what it says from now on")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if follow && a.output != "table" {
			return usage("--follow has no end, and --output %s would need one: leave one of both away", a.output)
		}
		c, err := a.client()
		if err != nil {
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
