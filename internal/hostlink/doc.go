// Package hostlink is the protocol between the service and the agents: JSON
// and byte streams over HTTP/2, TLS with certificates both ways.
//
// The service holds a certificate authority of its own. An agent that nobody
// has added yet shows a one-time code, made of a secret and the fingerprint of
// its key: so the service knows that it speaks to that agent, and the agent
// that whoever speaks has seen its screen.
package hostlink
