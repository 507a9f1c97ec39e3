package api

import (
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/draw"
)

// TestBreaches: what is not as the contract says is told with where it is.
func TestBreaches(t *testing.T) {
	gin.SetMode(gin.TestMode)
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	table, err := contractOf(spec)
	require.NoError(t, err)
	for _, c := range []struct{ call, path, body, says string }{
		{"POST /plans", "/plans", `{"operation":"start","copies":["x"],"gently":true}`, `"gently"`},
		{"POST /plans", "/plans", `{"operation":"fly"}`, "operation has to be one of attach, change"},
		{"POST /plans", "/plans", `{}`, "operation"},
		{"POST /plans", "/plans", `{"operation":"export","copies":["x"]}`, `"destination" is missing`},
		{"POST /plans", "/plans", `{"operation":"register","folders":["x"],"host":"h","files":"burn"}`, "files"},
		{"POST /plans", "/plans", `{"operation":"change","copies":["x"],"cpus":-1}`, "cpus"},
		{"POST /plans", "/plans", `["start"]`, "object"},
		{"POST /plans", "/plans", `{"operation":`, "can't be read"},
		{"GET /copies", "/copies?limit=0", "", "limit"},
		{"GET /copies", "/copies?limit=5000", "", "limit"},
		{"POST /hosts", "/hosts", `{"address":"h:1","code":"x","force":true}`, `"force"`},
		{"PATCH /hosts/{host}", "/hosts/gannet", `{"resting":"yes"}`, "resting"},
		{"POST /tokens", "/tokens", `{"name":"x","days":5000}`, "days"},
	} {
		method, path, _ := strings.Cut(c.call, " ")
		p := table[routed(method, path)]
		require.NotNil(t, p, c.call)
		r := httptest.NewRequest(method, apiBase+c.path, strings.NewReader(c.body))
		r.Header.Set("Content-Type", "application/json")
		g, _ := gin.CreateTestContext(httptest.NewRecorder())
		g.Request = r
		g.Params = gin.Params{{Key: "host", Value: "gannet"}}
		err := p.check(g)
		require.Error(t, err, c.body)
		require.Contains(t, err.Error(), c.says, "%s %s", c.call, c.body)
		require.NotContains(t, err.Error(), "Schema:", "people can do nothing with the schema's text")
	}
}

// TestStreams: bodies that are no JSON are not read when a call is checked.
func TestStreams(t *testing.T) {
	gin.SetMode(gin.TestMode)
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	table, err := contractOf(spec)
	require.NoError(t, err)
	p := table["PUT "+apiBase+"/jobs/:job/transfer"]
	body := &untouched{T: t}
	r := httptest.NewRequest(http.MethodPut, apiBase+"/jobs/x/transfer?offset=0", body)
	r.Header.Set("Content-Type", "application/octet-stream")
	g, _ := gin.CreateTestContext(httptest.NewRecorder())
	g.Request, g.Params = r, gin.Params{{Key: "job", Value: "x"}}
	require.NoError(t, p.check(g))
}

type untouched struct{ *testing.T }

func (u *untouched) Read([]byte) (int, error) {
	u.Fatal("the body was read")
	return 0, nil
}

// TestRequests: the shapes of requests in the contract and those that operations are drawn from are the same.
func TestRequests(t *testing.T) {
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	mapping := spec.Components.Schemas["Request"].Value.Discriminator.Mapping
	operations := draw.Operations()
	require.Len(t, mapping, len(operations))
	for _, op := range operations {
		require.NotEmpty(t, op.Title, op.Name)
		require.NotEmpty(t, op.Becomes, op.Name)
		require.True(t, strings.HasPrefix(op.Command, "unvora "), op.Name)
		ref := mapping[op.Name]
		schema := spec.Components.Schemas[ref.Ref[strings.LastIndexByte(ref.Ref, '/')+1:]].Value
		require.NotNil(t, schema, op.Name)
		require.Equal(t, []any{op.Name}, schema.Properties["operation"].Value.Enum)
		require.False(t, *schema.AdditionalProperties.Has, op.Name)
		var named []string
		for name := range schema.Properties {
			named = append(named, name)
		}
		require.ElementsMatch(t, named, jsonNames(reflect.TypeOf(op.New()).Elem()), op.Name)
		raw, err := json.Marshal(draw.New(op.Name))
		require.NoError(t, err)
		again, err := draw.Parse(raw)
		require.NoError(t, err)
		require.Equal(t, draw.New(op.Name), again)
	}
}

// jsonNames are the names that a struct has in JSON, those of embedded structs among them.
func jsonNames(t reflect.Type) (names []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "":
			names = append(names, jsonNames(f.Type)...)
		case f.IsExported() && name != "-":
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// TestAbilities: the contract knows every ability of hypervisors, and no other.
func TestAbilities(t *testing.T) {
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	var all []any
	for _, a := range fit.AllAbilities {
		all = append(all, string(a))
	}
	require.ElementsMatch(t, all, spec.Components.Schemas["Ability"].Value.Enum)
}

// TestCodes: the contract tells every code of a problem.
func TestCodes(t *testing.T) {
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	told := spec.Components.Schemas["Problem"].Value.Properties["code"].Value.Description
	codes := []inventory.Code{codeInternal, codeBlocked, codeOpen, codeUnreachable, codeDenied, codeSignedOut, codeCSRF,
		codeLater, codeDatabaseAway}
	for _, code := range slices.AppendSeq(codes, maps.Keys(statusOf)) {
		require.Regexp(t, `\b`+regexp.QuoteMeta(string(code))+"[,.]", told)
	}
}
