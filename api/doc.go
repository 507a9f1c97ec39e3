// Package openapi is generated from openapi.yaml: the models, the client that
// the command line uses, and the router that the service answers with.
package openapi

//go:generate go tool oapi-codegen -config oapi-codegen.yaml openapi.yaml
