package api

import (
	_ "embed"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"

	openapi "unvora.example/unvora/api"
)

//go:embed docs.html
var docsPage string

// documents serves the contract and a page that shows it, made from it.
func (s *Server) documents(r *gin.Engine) error {
	raw, err := openapi.GetSpecJSON()
	if err != nil {
		return err
	}
	spec, err := openapi.GetSpec()
	if err != nil {
		return err
	}
	r.GET("/api/v1/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", raw) })
	t, err := template.New("docs").Parse(docsPage)
	if err != nil {
		return err
	}
	sections := callsByTag(spec)
	r.GET("/api/docs", func(c *gin.Context) {
		c.Header("Content-Type", "text/html; charset=utf-8")
		if err := t.Execute(c.Writer, gin.H{"Info": spec.Info, "Sections": sections}); err != nil {
			s.log.Warn("page of the calls", "error", err)
		}
	})
	return nil
}

type docSection struct {
	Name, About string
	Calls       []docCall
}

type docCall struct {
	Method, Path, Summary, Body, Answer string
	Parameters                          []docField
	Fields                              []docField
}

type docField struct {
	Name, Where, Type, About string
	Required                 bool
}

func callsByTag(spec *openapi3.T) []docSection {
	sections := []docSection{}
	for _, tag := range spec.Tags {
		section := docSection{Name: tag.Name, About: tag.Description}
		for path, item := range spec.Paths.Map() {
			for method, op := range item.Operations() {
				if len(op.Tags) == 0 || op.Tags[0] != tag.Name {
					continue
				}
				section.Calls = append(section.Calls, describeCall(method, path, op))
			}
		}
		slices.SortFunc(section.Calls, func(a, b docCall) int {
			return strings.Compare(a.Path+a.Method,
				b.Path+b.Method)
		})
		sections = append(sections, section)
	}
	return sections
}

func describeCall(method, path string, op *openapi3.Operation) docCall {
	call := docCall{Method: method, Path: "/api/v1" + path, Summary: op.Summary}
	for _, p := range op.Parameters {
		call.Parameters = append(call.Parameters, docField{p.Value.Name, p.Value.In, typeName(p.Value.Schema),
			p.Value.Description, p.Value.Required})
	}
	if op.RequestBody != nil {
		for kind, content := range op.RequestBody.Value.Content {
			call.Body = kind
			if content.Schema == nil || content.Schema.Value == nil {
				continue
			}
			names := []string{}
			for n := range content.Schema.Value.Properties {
				names = append(names, n)
			}
			slices.Sort(names)
			for _, n := range names {
				p := content.Schema.Value.Properties[n]
				call.Fields = append(call.Fields, docField{n, "body", typeName(p), p.Value.Description,
					slices.Contains(content.Schema.Value.Required, n)})
			}
		}
	}
	for code, res := range op.Responses.Map() {
		if code != "default" && res.Value.Description != nil {
			call.Answer = code + ": " + *res.Value.Description
		}
	}
	return call
}

func typeName(s *openapi3.SchemaRef) string {
	switch {
	case s == nil || s.Value == nil:
		return ""
	case s.Ref != "":
		return s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]
	case s.Value.Type.Is("array"):
		return "list of " + typeName(s.Value.Items)
	case len(s.Value.Enum) > 0:
		var names []string
		for _, e := range s.Value.Enum {
			if n, ok := e.(string); ok && n != "" {
				names = append(names, n)
			}
		}
		return strings.Join(names, ", ")
	case s.Value.Type != nil:
		return strings.Join(s.Value.Type.Slice(), " or ")
	}
	return ""
}
