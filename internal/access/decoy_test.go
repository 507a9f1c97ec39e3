package access

import (
	"testing"

	"github.com/alexedwards/argon2id"
	"github.com/stretchr/testify/require"
)

// TestDecoy: comparing with the decoy is the work that comparing with a password's is, and nothing matches it.
func TestDecoy(t *testing.T) {
	decoy := decoyOf(argon2id.DefaultParams)
	p, salt, key, err := argon2id.DecodeHash(decoy)
	require.NoError(t, err)
	require.Equal(t, argon2id.DefaultParams, p)
	require.Len(t, salt, int(p.SaltLength))
	require.Len(t, key, int(p.KeyLength))
	ok, err := argon2id.ComparePasswordAndHash("", decoy)
	require.NoError(t, err)
	require.False(t, ok)
	require.NotEqual(t, decoy, decoyOf(p), "each service has its own")
}
