package cli

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unvora.example/unvora/core/fit"
)

// ours are the commands for what many look for under another word. The words that are nobody's stand for themselves.
var ours = map[string]string{
	"list":     "unvora copies lists machines; unvora hosts, pools, switches, disks, packages and jobs list the rest",
	"ls":       "unvora copies lists machines; unvora hosts, pools, switches, disks, packages and jobs list the rest",
	"show":     "unvora copies NAME shows a machine in full; unvora hosts NAME a host, unvora jobs ID a job",
	"info":     "unvora copies NAME shows a machine in full; unvora hosts NAME a host, unvora jobs ID a job",
	"status":   "unvora copies tells what runs, unvora jobs what is being done, unvora attention what waits for you",
	"search":   "unvora find TEXT finds anything, unvora where NAME says where a machine's copies are",
	"start":    "unvora power on COPY",
	"run":      "unvora power on COPY",
	"stop":     "unvora power stop COPY asks its guest to shut down, unvora power off COPY pulls the plug",
	"shutdown": "unvora power stop COPY asks its guest to shut down, unvora power off COPY pulls the plug",
	"restart":  "unvora power stop COPY, then unvora power on COPY",
	"reboot":   "unvora power stop COPY, then unvora power on COPY",
	"suspend":  "unvora power suspend COPY",
	"pause":    "unvora power pause COPY",
	"rename":   "unvora change COPY --name NAME",
	"set":      "unvora change COPY",
	"edit":     "unvora change COPY",
	"migrate":  "unvora move COPY --host HOST",
	"backup":   "unvora export COPY SHELF",
	"restore": "unvora import PACKAGE --host HOST; what lies in the trash: unvora trash restore; a snapshot: " +
		"unvora snapshot back",
	"delete":   "unvora delist COPY --files trash",
	"remove":   "unvora delist COPY --files trash",
	"rm":       "unvora delist COPY --files trash",
	"create":   "unvora import DISK --host HOST makes a machine around a disk; unvora clone COPY one like another",
	"new":      "unvora import DISK --host HOST makes a machine around a disk; unvora clone COPY one like another",
	"copy":     "unvora clone COPY makes another machine, unvora disk copy SRC DST another image",
	"convert":  "unvora disk copy SRC DST --format FORMAT",
	"diff":     "unvora compare A B",
	"log":      "unvora history says who did what; unvora console COPY what a machine says on its serial port",
	"logs":     "unvora history says who did what; unvora console COPY what a machine says on its serial port",
	"events":   "unvora history says who did what, unvora jobs what is being done",
	"refresh":  "unvora survey",
	"network":  "unvora switches lists them, unvora switch add makes one",
	"networks": "unvora switches lists them, unvora switch add makes one",
	"segments": "unvora switches lists which switch reaches which segment",
	"storage":  "unvora pools",
	"shelves":  "unvora packages",
	"shelf":    "unvora packages",
	"version":  "unvora --version",
	"users":    "unvora user list",
	"tokens":   "unvora token list",
	"password": "unvora user change",
}

// plurals are the commands that list what a group of commands is about.
var plurals = map[string]string{"host": "hosts", "pool": "pools", "switch": "switches", "disk": "disks",
	"manager": "managers", "nic": "copies NAME", "power": "copies"}

// speakPlainly makes each refusal of a call one in our own words: what is missing or too many, by the names that the
// command's line of use gives to it.
func speakPlainly(root *cobra.Command) {
	root.SetFlagErrorFunc(wrongFlag)
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		if cmd.HasSubCommands() && !cmd.Runnable() && cmd != root {
			cmd.Args, cmd.RunE = cobra.ArbitraryArgs, wrongVerb
		}
		if check := cmd.Args; check != nil {
			cmd.Args = func(cmd *cobra.Command, args []string) error {
				if check(cmd, args) == nil {
					return nil
				}
				return wrongCount(cmd, args)
			}
		}
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	walk(root)
	root.Args = func(_ *cobra.Command, args []string) error {
		if len(args) == 0 {
			return nil
		}
		return wrongWord(root, args[0])
	}
	root.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
}

// wrongWord refuses a command that there is not, and says which is meant where that can be told.
func wrongWord(root *cobra.Command, word string) error {
	said := fmt.Sprintf("there is no command %q.", word)
	if which, ok := ours[strings.ToLower(word)]; ok {
		return usage("%s Here it is: %s.", said, which)
	}
	if like := nearest(word, namesOf(root)); like != "" {
		return usage("%s Is unvora %s meant?", said, like)
	}
	return usage("%s unvora --help lists them.", said)
}

// wrongVerb refuses a group of commands without one of them, or with one that there is not.
func wrongVerb(group *cobra.Command, args []string) error {
	names := namesOf(group)
	there := strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	if len(names) == 1 {
		there = names[0]
	}
	if len(args) == 0 {
		return usage("%s what? There is %s.", group.CommandPath(), there)
	}
	said := fmt.Sprintf("%s has no %q.", group.CommandPath(), args[0])
	if list := plurals[group.Name()]; list != "" && slices.Contains([]string{"list", "ls", "show"}, args[0]) {
		return usage("%s Here it is: unvora %s.", said, list)
	}
	if like := nearest(args[0], names); like != "" {
		return usage("%s Is %s %s meant?", said, group.CommandPath(), like)
	}
	return usage("%s There is %s.", said, there)
}

func namesOf(parent *cobra.Command) (names []string) {
	for _, cmd := range parent.Commands() {
		if !cmd.Hidden && cmd.Name() != "help" {
			names = append(names, cmd.Name())
		}
	}
	return names
}

// nearest is the name that a word is likely meant to be; none where that can't be told.
func nearest(word string, names []string) string {
	best, least := "", len(word)/3+1
	for _, name := range names {
		d := levenshtein.ComputeDistance(strings.ToLower(word), name)
		if strings.HasPrefix(name, word) && len(word) > 1 {
			d = 0
		}
		if d < least {
			best, least = name, d
		}
	}
	return best
}

// operands are what a command's line of use says it takes: those it needs, and all.
func operands(use string) (needed, all []string) {
	words := strings.Fields(use)
	optional := false
	for _, word := range words[1:] {
		if strings.HasPrefix(word, "--") {
			break
		}
		optional = optional || strings.HasPrefix(word, "[")
		name := strings.Trim(word, "[]")
		all = append(all, name)
		if !optional {
			needed = append(needed, name)
		}
		optional = optional && !strings.HasSuffix(word, "]")
	}
	return needed, all
}

// wrongCount says which operand is missing, or which is one too many.
func wrongCount(cmd *cobra.Command, args []string) error {
	needed, all := operands(cmd.Use)
	path, _, _ := strings.Cut(cmd.CommandPath(), " "+cmd.Name())
	so := strings.TrimSpace(path + " " + cmd.Use)
	switch {
	case len(args) < len(needed):
		return usage("%s is missing: %s. So, for example:\n%s", strings.TrimSuffix(needed[len(args)], "…"), so,
			firstExample(cmd))
	case len(all) == 0:
		return usage("%s is called with options only, not with %q", cmd.CommandPath(), args[0])
	}
	return usage("%q is one too many: %s", args[min(len(all), len(args)-1)], so)
}

func firstExample(cmd *cobra.Command) string {
	first, _, _ := strings.Cut(cmd.Example, "\n")
	return first
}

// missingFlags refuses a call without an option that it needs.
func missingFlags(cmd *cobra.Command) (err error) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if _, needs := f.Annotations[cobra.BashCompOneRequiredFlag]; needs && !f.Changed && err == nil {
			err = usage("--%s is missing: %s. For example:\n%s", f.Name, strings.TrimSuffix(f.Usage, " (needed)"),
				firstExample(cmd))
		}
	})
	return err
}

// kinds say what an option of a type wants.
var kinds = map[string]string{"int": "a whole number", "int64": "a whole number", "bool": "true or false",
	"duration": "a time such as 30s or 5m"}

// wrongFlag says what is wrong with an option.
func wrongFlag(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var empty *pflag.ValueRequiredError
	var value *pflag.InvalidValueError
	var wanted *wants
	switch {
	case errors.As(err, &wanted) && errors.As(err, &value):
		return usage("--%s %q: want %s", value.GetFlag().Name, value.GetValue(), wanted.what)
	case errors.As(err, &value):
		f := value.GetFlag()
		if kind := kinds[f.Value.Type()]; kind != "" {
			return usage("--%s %q: want %s", f.Name, value.GetValue(), kind)
		}
	case errors.As(err, &empty):
		return usage("--%s needs a value: %s", empty.GetFlag().Name, empty.GetFlag().Usage)
	case errors.As(err, &unknown):
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		name := unknown.GetSpecifiedName()
		if short := unknown.GetSpecifiedShortnames(); short != "" {
			return usage("%s has no option -%s", cmd.CommandPath(), name)
		}
		if like := nearest(name, names); like != "" {
			return usage("%s has no option --%s. Is --%s meant?", cmd.CommandPath(), name, like)
		}
		return usage("%s has no option --%s", cmd.CommandPath(), name)
	}
	return usage("%v", err)
}

// wants is the error of a value that is not what is wanted.
type wants struct{ what string }

func (w *wants) Error() string { return "want " + w.what }

// atLeast is an option's whole number with a lower bound.
type atLeast struct {
	into *int
	from int
}

func (n atLeast) String() string {
	if n.into == nil || *n.into == 0 {
		return ""
	}
	return strconv.Itoa(*n.into)
}
func (atLeast) Type() string { return "int" }

func (n atLeast) Set(text string) error {
	v, err := strconv.Atoi(text)
	if err != nil || v < n.from {
		return &wants{fmt.Sprintf("a whole number, %d or more", n.from)}
	}
	*n.into = v
	return nil
}

// bytesValue is an option's size, 4GiB say: a number alone could mean anything.
type bytesValue struct{ into *int64 }

func (b bytesValue) String() string {
	if b.into == nil || *b.into == 0 {
		return ""
	}
	return size(*b.into)
}
func (bytesValue) Type() string { return "size" }

func (b bytesValue) Set(text string) error {
	n, err := fit.ParseSize(text)
	if err != nil {
		return &wants{"a size with its unit, such as 4GiB or 512MiB"}
	}
	*b.into = n
	return nil
}
