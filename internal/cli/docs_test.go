package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"
)

// fenced are blocks of commands in a page; inline is a command within a sentence.
var (
	fenced = regexp.MustCompile("(?s)```sh\n(.*?)```")
	inline = regexp.MustCompile("`(unvora [^`\n]+)`")
)

// commandsIn are the commands of the client that a page has, as they are written.
func commandsIn(page string) (lines []string) {
	for _, block := range fenced.FindAllStringSubmatch(page, -1) {
		text := strings.ReplaceAll(block[1], "\\\n", " ")
		for _, line := range strings.Split(text, "\n") {
			lines = append(lines, strings.Split(line, " · ")...)
		}
	}
	for _, m := range inline.FindAllStringSubmatch(fenced.ReplaceAllString(page, ""), -1) {
		lines = append(lines, m[1])
	}
	return lines
}

// shellWords splits a line as a shell does, up to what is no more of the command.
func shellWords(line string) (words []string) {
	for _, m := range regexp.MustCompile(`'[^']*'|"[^"]*"|[^\s'"]+`).FindAllString(line, -1) {
		if strings.HasPrefix(m, "#") || m == "|" || m == ">" || m == "&&" || m == ";" || m == "<" {
			break
		}
		words = append(words, strings.Trim(m, `'"`))
	}
	return words
}

// TestDocs: every command that the docs show is one that there is, with options that it has, and arguments that it
// takes.
func TestDocs(t *testing.T) {
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	checked := 0
	for _, page := range append(pages, "../../README.md") {
		raw, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, line := range commandsIn(string(raw)) {
			line = regexp.MustCompile(`^\s*(sudo |\$ |[A-Z_]+=\S+ )*`).ReplaceAllString(line, "")
			if !strings.HasPrefix(line, "unvora ") && !strings.HasPrefix(line, "bin/unvora ") {
				continue
			}
			words := shellWords(strings.ReplaceAll(line, "[flags]", ""))[1:]
			if len(words) == 0 || strings.HasPrefix(words[0], "…") || words[0] == "--version" ||
				words[0] == "completion" { // cobra's own
				continue
			}
			root := Root()
			root.SetOut(io.Discard)
			root.SetErr(io.Discard)
			if err := checkCall(root, words, strings.Contains(line, "#")); err != nil {
				t.Errorf("%s: %s: %v", filepath.Base(page), line, err)
			}
			checked++
		}
	}
	require.Greater(t, checked, 200, "they were found")
}

// checkCall tells what is wrong with a call. A command that is named alone, and not explained, is not called.
func checkCall(root *cobra.Command, words []string, explained bool) error {
	cmd, rest, err := root.Find(words)
	switch {
	case err != nil:
		return err
	case cmd == root:
		return errors.New("there is no such command")
	}
	if err := cmd.ParseFlags(rest); err != nil {
		return err
	}
	args := cmd.Flags().Args()
	if cmd.HasSubCommands() && len(args) > 0 && cmd.Args == nil {
		return fmt.Errorf("it has no %s", args[0])
	}
	if cmd.Args == nil || len(rest) == 0 && !explained {
		return nil
	}
	return cmd.Args(cmd, args)
}
