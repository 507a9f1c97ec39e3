package keyring

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func random(seed byte) *rand.ChaCha8 { return rand.NewChaCha8([32]byte{seed}) }

// TestSeal: a secret comes back for the key and purpose that it was sealed with,
// for no other, and not when a bit of it was altered.
func TestSeal(t *testing.T) {
	k, err := NewKey(random(1))
	require.NoError(t, err)
	other, err := NewKey(random(2))
	require.NoError(t, err)
	sealed, err := k.Seal([]byte("low tide"), "manager mainland", random(3))
	require.NoError(t, err)
	require.NotContains(t, string(sealed), "low tide")
	plain, err := k.Open(sealed, "manager mainland")
	require.NoError(t, err)
	require.Equal(t, "low tide", string(plain))

	for name, try := range map[string]func() ([]byte, error){
		"another key":     func() ([]byte, error) { return other.Open(sealed, "manager mainland") },
		"another purpose": func() ([]byte, error) { return k.Open(sealed, "manager island") },
		"cut short":       func() ([]byte, error) { return k.Open(sealed[:5], "manager mainland") },
		"nothing":         func() ([]byte, error) { return k.Open(nil, "manager mainland") },
	} {
		_, err := try()
		require.ErrorIs(t, err, ErrSealed, name)
	}
	for i := range sealed {
		altered := bytes.Clone(sealed)
		altered[i] ^= 1
		_, err := k.Open(altered, "manager mainland")
		require.ErrorIs(t, err, ErrSealed, i)
	}
}

func TestParseKey(t *testing.T) {
	k, err := NewKey(random(4))
	require.NoError(t, err)
	again, err := ParseKey(" " + k.String() + "\n")
	require.NoError(t, err)
	require.Equal(t, k, again)
	for _, text := range []string{"", "x", k.String()[:20], k.String() + "AAAA"} {
		_, err := ParseKey(text)
		require.ErrorContains(t, err, "32 bytes in base64")
	}
	_, err = NewKey(bytes.NewReader(make([]byte, 7)))
	require.Error(t, err)
}
