// Package cli is the command line: it reads what is asked, calls the API
// through the generated client, and prints what comes back.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// Status codes of the process.
const (
	statusDone        = 0
	statusFailed      = 1
	statusUsage       = 2
	statusOpen        = 3
	statusBlocked     = 4
	statusNotAllowed  = 5
	statusUnreachable = 6
	statusCancelled   = 7
)

// exit is an error with the status that the process ends with.
type exit struct {
	status int
	err    error
}

func (e *exit) Error() string { return e.err.Error() }
func (e *exit) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &exit{statusUsage, fmt.Errorf(format, args...)}
}

// app is what all commands share.
type app struct {
	server, token, config string
	output                string
	quiet, noColor, wide  bool
	columns               []string // of tables; none for those that have room
	shown                 []string // columns that the tables had which were shown
	out, errOut           io.Writer
	in                    *os.File
	lines                 *bufio.Reader // what is typed into in
}

// Main runs the command line and returns the process's status.
func Main(version string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends it at once
	defer stop()
	a := &app{out: os.Stdout, errOut: os.Stderr, in: os.Stdin, lines: bufio.NewReader(os.Stdin)}
	root := a.root(version)
	cmd, err := root.ExecuteContextC(ctx)
	if err == nil {
		return statusDone
	}
	var e *exit
	if !errors.As(err, &e) {
		// What Cobra itself complains of is how it was called.
		e = &exit{statusUsage, err}
	}
	if e.err != nil && e.Error() != "" {
		fmt.Fprintln(a.errOut, a.paint(red, "unvora: ")+e.Error())
		if e.status == statusUsage {
			fmt.Fprintf(a.errOut, "%s --help tells how.\n", cmd.CommandPath())
		}
	}
	return e.status
}

// Root is the tree of all commands, for the reference in the docs.
func Root() *cobra.Command {
	return (&app{out: io.Discard, errOut: io.Discard, in: os.Stdin}).root("")
}

const (
	groupLook  = "look"
	groupBring = "bring"
	groupSend  = "send"
	groupCare  = "care"
	groupAlone = "alone"
	groupRun   = "run"
)

// command makes commands of a group.
type command struct {
	group string
	make  func(a *app) []*cobra.Command
}

// commands is the table of commands. The file of each command puts a row into it.
var commands []command

// register puts commands into the table. Each of makers makes one.
func register(group string, makers ...func(a *app) *cobra.Command) {
	commands = append(commands, command{group, func(a *app) (list []*cobra.Command) {
		for _, m := range makers {
			list = append(list, m(a))
		}
		return list
	}})
}

func (a *app) root(version string) *cobra.Command {
	root := &cobra.Command{
		Use:   "unvora",
		Short: "Export, clone and re-register virtual machines, and remember every copy",
		Long: `Unvora moves virtual machines between hosts: it works out everything that will
go wrong before a byte is moved, offers the remedy for each, and remembers which
copy lives where.

Nouns look (hosts, copies, where), verbs work (export, import, power). Every verb
takes --plan to see what it would do.`,
		Example: `  unvora where tide-gauge
  unvora export tide-gauge ./tide-gauge.ova`,
		Version:       version,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetOut(a.out)
	root.SetErr(a.errOut)
	f := root.PersistentFlags()
	f.StringVar(&a.server, "server", "", "address of the service (UNVORA_SERVER)")
	f.StringVar(&a.token, "token", "", "token to sign in with (UNVORA_TOKEN)")
	f.StringVar(&a.config, "config", "", "client profile (UNVORA_CONFIG)")
	f.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "print results only, no progress")
	f.BoolVar(&a.wide, "wide", false, "all columns of a table, however narrow the terminal is")
	f.StringSliceVar(&a.columns, "columns", nil, "only these columns of a table, such as copy,state")
	f.BoolVar(&a.noColor, "no-color", os.Getenv("NO_COLOR") != "", "print without colours")
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		switch a.output {
		case "table", "json", "yaml":
			return missingFlags(cmd)
		}
		return usage("--output %q: there are table, json and yaml", a.output)
	}
	root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml"},
		cobra.ShellCompDirectiveNoFileComp))
	for _, g := range [][2]string{{groupLook, "Look:"}, {groupBring, "Bring in:"}, {groupSend, "Send out:"},
		{groupCare, "Take care:"}, {groupAlone, "Without a service:"}, {groupRun, "Run and sign in:"}} {
		root.AddGroup(&cobra.Group{ID: g[0], Title: g[1]})
	}
	for _, c := range commands {
		for _, cmd := range c.make(a) {
			cmd.GroupID = c.group
			root.AddCommand(cmd)
		}
	}
	speakPlainly(root)
	root.SetHelpCommandGroupID(groupRun)
	root.SetCompletionCommandGroupID(groupRun)
	return root
}

// terminal tells whether a person can be asked.
func (a *app) terminal() bool {
	out, ok := a.errOut.(*os.File)
	return ok && term.IsTerminal(int(a.in.Fd())) && term.IsTerminal(int(out.Fd()))
}

const (
	red    = "31"
	green  = "32"
	yellow = "33"
	cyan   = "36"
	faint  = "2"
	bold   = "1"
)

// paint colours text on a terminal that wants it.
func (a *app) paint(code, text string) string {
	f, ok := a.out.(*os.File)
	if a.noColor || a.output != "table" || !ok || !term.IsTerminal(int(f.Fd())) {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}
