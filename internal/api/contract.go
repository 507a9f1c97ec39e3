package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gin-gonic/gin"

	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/inventory"
)

const (
	apiBase = "/api/v1"
	maxBody = 32 << 20 // of a JSON body: a package's skeleton with its descriptor

	// bodyTime is how long a JSON body may take to come.
	bodyTime = 30 * time.Second
)

// contract is what api/openapi.yaml says of each call, by method and path as the router has them. A call that is not in
// it is refused.
type contract map[string]*promise

// promise is what the contract says of one call.
type promise struct {
	role  string        // the least that may make it
	json  bool          // it has a JSON body; other bodies are streams, and never read into memory
	route routers.Route // for checking parameters and body
}

// nobody is the role of calls that need none.
const nobody = "nobody"

var pathParameter = regexp.MustCompile(`\{(\w+)\}`)

// routed is a path of the contract as the router has it.
func routed(method, path string) string {
	return method + " " + apiBase + pathParameter.ReplaceAllString(path, ":$1")
}

func contractOf(spec *openapi3.T) (contract, error) {
	table := contract{}
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			role, _ := op.Extensions["x-role"].(string)
			if role != nobody && !access.May(role, access.Viewer) {
				return nil, fmt.Errorf("the contract gives %s %s no role", method, path)
			}
			open := *op // who calls is looked at before; the library would read whole bodies for that
			open.Security = &openapi3.SecurityRequirements{}
			p := &promise{role: role, route: routers.Route{Spec: spec, Path: path, PathItem: item, Method: method,
				Operation: &open}}
			if op.RequestBody != nil {
				p.json = op.RequestBody.Value.Content.Get("application/json") != nil
			}
			table[routed(method, path)] = p
		}
	}
	return table, nil
}

// keep holds a call to the contract: its parameters and its body have to be as that says. The body is read here, once.
func (s *Server) keep(c *gin.Context) {
	p := s.contract[c.Request.Method+" "+c.FullPath()]
	if p == nil { // nobody of any role may make it
		return
	}
	err := p.check(c)
	if err != nil {
		s.problem(c, err)
		c.Abort()
	}
}

func (p *promise) check(c *gin.Context) error {
	if p.json {
		raw, err := readBody(c)
		if err != nil {
			return err
		}
		c.Set("body", raw)
		c.Request.Body = io.NopCloser(bytes.NewReader(raw))
	}
	params := map[string]string{}
	for _, v := range c.Params {
		params[v.Key] = v.Value
	}
	err := openapi3filter.ValidateRequest(c, &openapi3filter.RequestValidationInput{
		Request: c.Request, PathParams: params, Route: &p.route,
		Options: &openapi3filter.Options{ExcludeRequestBody: !p.json},
	})
	if err != nil {
		return inventory.Wrong("The call is not as the contract says - %s.", strings.TrimSuffix(breach(err), "."))
	}
	return nil
}

// breach tells in words how a call is not as the contract says, and where.
func breach(err error) string {
	var where []string
	var request *openapi3filter.RequestError
	if errors.As(err, &request) && request.Parameter != nil {
		where = append(where, request.Parameter.Name)
	}
	var schema *openapi3.SchemaError
	switch {
	case errors.As(err, &schema):
		// of the one shape that is meant
		for inner := schema; schema.Origin != nil && errors.As(schema.Origin, &inner) && inner != schema; {
			schema = inner
		}
		where = append(where, schema.JSONPointer()...)
	case request != nil && request.Err != nil:
		return strings.Join(append(where, request.Err.Error()), ": ")
	default:
		return err.Error()
	}
	says := schema.Reason
	if d := schema.Schema; d != nil && d.Discriminator != nil {
		name := d.Discriminator.PropertyName
		says = fmt.Sprintf("%s has to be one of %s", name,
			strings.Join(slices.Sorted(maps.Keys(d.Discriminator.Mapping)),
				", "))
	}
	if len(where) > 0 {
		says = strings.Join(where, "/") + ": " + says
	}
	return says
}

// readBody reads the bytes of a JSON body.
func readBody(c *gin.Context) ([]byte, error) {
	if kind, _, err := mime.ParseMediaType(c.GetHeader("Content-Type")); err != nil || kind != "application/json" {
		return nil, &inventory.Error{Code: inventory.CodeNotJSON,
			Message: "The body has to be of the type application/json."}
	}
	// A caller who sends a byte now and then holds nothing for long.
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(bodyTime))
	raw, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxBody))
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Time{})
	if err == nil && (bytes.IndexByte(raw, 0) >= 0 || bytes.Contains(raw, []byte(`\u0000`))) {
		err = errors.New("it has a character that no text has")
	}
	if err == nil && !json.Valid(raw) {
		err = json.Unmarshal(raw, new(any))
	}
	if err != nil {
		return nil, inventory.Wrong("The body can't be read: %v.", err)
	}
	return raw, nil
}

// body is the JSON body of a call, which keep has checked; it answers itself when it can't be had.
func body[T any](s *Server, c *gin.Context) (*T, bool) {
	var t T
	raw, _ := c.MustGet("body").([]byte)
	if err := json.Unmarshal(raw, &t); err != nil {
		s.problem(c, inventory.Wrong("The body can't be read: %v.", err))
		return nil, false
	}
	return &t, true
}

// needs is the role that a call needs. One that is not in the contract is for nobody.
func (p *promise) needs() string {
	if p == nil {
		return "that no one has"
	}
	return p.role
}
