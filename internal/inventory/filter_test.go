package inventory

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTerms(t *testing.T) {
	for text, want := range map[string]string{
		"":                                 "",
		"   ":                              "",
		"host=gannet":                      "host = gannet",
		" host=gannet   name~tide-* ":      "host = gannet|name ~ tide-*",
		`owner="shore team" host=skua`:     "owner = shore team|host = skua",
		`owner="he said \"no\" \\ left"`:   `owner = he said "no" \ left`,
		"mac=06:5c:00:ea:c5:e4":            "mac = 06:5c:00:ea:c5:e4",
		"name=a=b":                         "name = a=b",
		"name~*~*":                         "name ~ *~*",
		"name=wörd-€":                      "name = wörd-€",
		"form=registered\tstate=running\n": "form = registered|state = running",
	} {
		list, err := terms(text)
		require.NoError(t, err, text)
		var got []string
		for _, term := range list {
			got = append(got, term.Field+" "+term.Op+" "+term.Value)
		}
		require.Equal(t, want, strings.Join(got, "|"), text)
	}
	for _, text := range []string{"gannet", "host=", "=gannet", "host=gannet name", `host="gannet`, `host="a"b=c`,
		`host=""`, "~", `"host"=x`, "host = gannet"} {
		_, err := terms(text)
		require.Error(t, err, text)
		var known *Error
		require.ErrorAs(t, err, &known, text)
		require.Equal(t, CodeWrong, known.Code)
	}
}

func TestWhere(t *testing.T) {
	args := []any{"before"}
	got, err := where(`host=gannet name~50%_*? state=running`, copyFields, &args)
	require.NoError(t, err)
	require.Len(t, got, 3)
	require.Contains(t, got[0], "$2")
	require.Equal(t, "c.sort like lower($3)", got[1])
	require.Equal(t, []any{"before", "gannet", `50\%\_%_`, "running"}, args,
		"what people type is an argument, and never part of the question")
	for filter, says := range map[string]string{
		"colour=red":  "can't be filtered by colour=; it can by address, form, host",
		"host~g*":     "can't be filtered by host~",
		"form=box":    `there is no "box"; there are registered`,
		"id=7":        "is not a UUID",
		"mac=nothing": "mac",
	} {
		_, err := where(filter, copyFields, new([]any))
		require.ErrorContains(t, err, says, filter)
	}
}

func FuzzTerms(f *testing.F) {
	f.Add(`host=gannet name~tide-* owner="shore team"`)
	f.Add(`owner="\"`)
	f.Fuzz(func(t *testing.T, text string) {
		list, err := terms(text)
		if err != nil {
			return
		}
		for _, term := range list {
			require.NotEmpty(t, term.Field)
			require.NotEmpty(t, term.Value)
			require.NotContains(t, term.Field, " ")
		}
	})
}
