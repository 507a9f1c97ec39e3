// Package cimi is a client of the Cloud Infrastructure Management Interface
// (DMTF DSP0263, version 2.0), by which a foreign management server is asked for
// its machines, volumes and networks, and given new ones: resources in JSON over
// HTTPS, with Basic (RFC 7617) or Bearer (RFC 6750) credentials.
//
// The subset that is spoken, and what is added to it, is written down in
// docs/managers.md. Everything that a provider may leave out is asked for and
// never assumed: an operation that a resource does not list is one that this
// account may not use, or that the provider does not have (DSP0263, 5.5.11).
package cimi
