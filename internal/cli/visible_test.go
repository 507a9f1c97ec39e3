package cli

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestVisible: what would not be seen, or would be obeyed by a terminal, is written
// as it is called; all else stays.
func TestVisible(t *testing.T) {
	for name, want := range map[string]string{
		"tide-gauge": "tide-gauge", "Schärenpegel ✓": "Schärenpegel ✓", "\x1b[31mred": `\u001b[31mred`,
		"a\u202eb": `a\u202eb`, "x\u0085y\u009b": `x\u0085y\u009b`,
		`back\slash \u001b`: `back\slash \u001b`, "two\nlines": "two\nlines",
		"\u2066isolated\u2069": `\u2066isolated\u2069`,
	} {
		raw, err := json.Marshal(map[string]string{"name": name})
		require.NoError(t, err)
		var got map[string]string
		require.NoError(t, json.Unmarshal(visible(raw), &got), name)
		require.Equal(t, want, got["name"])
	}
}
