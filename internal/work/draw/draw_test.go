package draw

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// TestTable: every operation has its words, a request of its own type, and the same fields as its shape in the
// contract.
func TestTable(t *testing.T) {
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	union := spec.Components.Schemas["Request"].Value
	require.Len(t, union.OneOf, len(operations))
	require.Len(t, union.Discriminator.Mapping, len(operations))
	types := map[reflect.Type]string{}
	for _, op := range Operations() {
		require.NotEmpty(t, op.Title, op.Name)
		require.NotEmpty(t, op.Becomes, op.Name)
		require.True(t, strings.HasPrefix(op.Command, "unvora "), op.Name)
		kind := reflect.TypeOf(op.New()).Elem()
		require.Empty(t, types[kind], "%s and %s have one request", op.Name, types[kind])
		types[kind] = op.Name
		require.Equal(t, op.Name, New(op.Name).asked().Operation)
		require.Equal(t, op.Name, Named(op.New()).asked().Operation)

		ref, ok := union.Discriminator.Mapping[op.Name]
		require.True(t, ok, "the contract has no %s", op.Name)
		shape := spec.Components.Schemas[ref.Ref[strings.LastIndex(ref.Ref, "/")+1:]].Value
		require.ElementsMatch(t, fieldsOf(kind), keys(shape.Properties), op.Name)
	}
	require.Nil(t, New("fly"))
}

func keys[V any](m map[string]V) (names []string) {
	for k := range m {
		names = append(names, k)
	}
	return names
}

// fieldsOf are the names of a request's fields in JSON, with those of what it embeds.
func fieldsOf(t reflect.Type) (names []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous:
			names = append(names, fieldsOf(f.Type)...)
		case name != "" && name != "-":
			names = append(names, name)
		}
	}
	return names
}

// TestParse: a request is read into the type of its operation; what is not known is told, and where it is wrong.
func TestParse(t *testing.T) {
	req, err := Parse([]byte(`{"operation":"delist","copies":["gannet/tide-gauge"],"trash":true,"note":"old",
		"answers":{"state.running":"stop"},"takeRecommended":true}`))
	require.NoError(t, err)
	require.Equal(t, &Delist{Asked: Asked{Operation: "delist", Note: "old", TakeRecommended: true,
		Answers: plan.Answers{"state.running": "stop"}}, Many: These("gannet/tide-gauge"), Trash: true},
		req)
	require.Equal(t, "old", NoteOf(req))
	As(req, Caller{Name: "robin", Operator: true})
	require.Equal(t, Caller{Name: "robin", Operator: true}, CallerOf(req))
	text, err := json.Marshal(req)
	require.NoError(t, err)
	require.NotContains(t, string(text), "robin", "who asks is not of the request")
	again, err := Parse(text)
	require.NoError(t, err)
	require.Equal(t, []string{"gannet/tide-gauge"}, again.(*Delist).Copies.Copies)

	for raw, says := range map[string]string{
		`{`: "can't be read", `[]`: "can't be read", `{}`: `Unknown operation ""`,
		`{"operation":"fly"}`:                                  "there are attach, change, clone, delist",
		`{"operation":"delist","wings":2}`:                     `unknown field "wings"`,
		`{"operation":"delist","copies":"gannet/tide-gauge"}`:  "request to delist can't be read",
		`{"operation":"stop","copies":["a"],"trash":true}`:     `unknown field "trash"`,
		`{"operation":"change","copies":["a"],"cpus":"many"}`:  "request to change can't be read",
		`{"operation":"delist","copies":["a"],"by":"someone"}`: `unknown field "by"`,
	} {
		_, err := Parse([]byte(raw))
		var wrong *inventory.Error
		require.ErrorAs(t, err, &wrong, raw)
		require.Equal(t, inventory.CodeWrong, wrong.Code)
		require.Contains(t, wrong.Message, says, raw)
	}
}

// TestBegin: a job gets ids for what it makes, and packages the passport of the copy that they are.
func TestBegin(t *testing.T) {
	at := time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC)
	lineage := uuid.NewString()
	made, changed := &plan.Record{Lineage: "new"}, &plan.Record{Lineage: lineage, Copy: uuid.NewString()}
	pack := &plan.Pack{}
	d := &Drawn{Plan: &plan.Plan{Operation: "export", Steps: []plan.Step{{Do: pack}, {Do: made}}}}
	first := d.Begin(at)
	require.Equal(t, made.Made, first.String())
	require.NoError(t, uuid.Validate(made.Lineage))
	require.Equal(t, made.Made, pack.Passport.Copy)
	require.Equal(t, made.Lineage, pack.Passport.Lineage)
	require.Equal(t, at, pack.Passport.MadeAt)
	require.Equal(t, identity.Keep, pack.Passport.Identity)

	d = &Drawn{Plan: &plan.Plan{Operation: "change", Steps: []plan.Step{{Do: changed}}}}
	require.Nil(t, d.Begin(at), "it is the copy that it was")
	require.Empty(t, changed.Made)
	require.Equal(t, lineage, changed.Lineage)
}

// TestCheckRole: what changes a host for all its machines is for administrators.
func TestCheckRole(t *testing.T) {
	d := &Drawn{Plan: &plan.Plan{Steps: []plan.Step{{Kind: plan.KindPlace},
		{Kind: plan.KindMakeSwitch, What: "Make lab"}}}}
	require.NoError(t, d.CheckRole(Caller{Operator: true, Administrator: true}))
	var denied *Denied
	require.ErrorAs(t, d.CheckRole(Caller{Operator: true}), &denied)
	require.Equal(t, "This needs the role administrator: Make lab.", denied.Error())
	d.Steps = d.Steps[:1]
	require.NoError(t, d.CheckRole(Caller{Operator: true}))
}

// TestHoldPlaces: folders that are made, or written anew, are held, so that no two jobs meet in them.
func TestHoldPlaces(t *testing.T) {
	d := &Drawn{Holds: []string{"copy:1"}, Plan: &plan.Plan{Steps: []plan.Step{
		{Host: "gannet", Do: &plan.Alter{Folder: "/reef/tide-gauge"}}, {Host: "gannet", Do: &plan.Mend{Path: "/x"}},
		{Host: "petrel", Do: &plan.Place{PoolID: "p1", Name: "tide-gauge"}}}}}
	d.holdPlaces()
	require.Equal(t, []string{"copy:1", "path:gannet:/reef/tide-gauge", inventory.FolderKey("p1", "tide-gauge")},
		d.Holds)
}
