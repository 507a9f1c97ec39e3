package tests

import (
	"bytes"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
)

// held makes calls, and holds every answer in JSON to the contract: its status, its fields, their values.
type held struct{ testing.TB }

var parameter = regexp.MustCompile(`\\\{\w+\\\}`)

func (h held) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := http.DefaultTransport.RoundTrip(r)
	if err != nil || !strings.Contains(res.Header.Get("Content-Type"), "json") {
		return res, err
	}
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return nil, err
	}
	require.NoError(h, res.Body.Close())
	res.Body = io.NopCloser(bytes.NewReader(body))
	spec, err := openapi.GetSpec()
	require.NoError(h, err)
	var route *routers.Route
	for path, item := range spec.Paths.Map() {
		shape := "^/api/v1" + parameter.ReplaceAllString(regexp.QuoteMeta(path), "[^/]+") + "$"
		op := item.GetOperation(r.Method)
		fits := op != nil && regexp.MustCompile(shape).MatchString(r.URL.EscapedPath())
		if fits && (route == nil || len(path) > len(route.Path) || !strings.Contains(path, "{")) {
			route = &routers.Route{Spec: spec, Path: path, PathItem: item, Method: r.Method, Operation: op}
		}
	}
	if route == nil {
		return res, nil // no call of the contract, and refused as that
	}
	options := &openapi3filter.Options{IncludeResponseStatus: true, MultiError: true}
	options.WithCustomSchemaErrorFunc(func(e *openapi3.SchemaError) string {
		return strings.Join(e.JSONPointer(), "/") +
			": " + e.Reason
	})
	require.NoError(h, openapi3filter.ValidateResponse(r.Context(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: r, Route: route, Options: options},
		Status:                 res.StatusCode, Header: res.Header, Body: io.NopCloser(bytes.NewReader(body)),
		Options: options,
	}), "%s %s: %s", r.Method, r.URL.Path, body)
	return res, nil
}
