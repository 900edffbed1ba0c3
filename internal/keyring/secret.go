package keyring

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"kindredgate/internal/exchange"
)

// This file is the texts of keys: how they are made, recognised, checked and proved.

// characters are n random characters of the alphabet, 5 bits each.
func characters(n int) string {
	raw := make([]byte, n)
	rand.Read(raw) // never fails
	for i, b := range raw {
		raw[i] = alphabet[b%32]
	}
	return string(raw)
}

// Redact leaves of each key in a text what identifies it.
func Redact(text string) string {
	if !strings.Contains(text, prefix) {
		return text
	}
	return secrets.ReplaceAllStringFunc(text, func(key string) string { return key[:len(prefix)+idLength] + "…" })
}

// FindKeys are where keys stand in a text, each from and to which byte.
func FindKeys(text string) [][]int {
	if !strings.Contains(text, prefix) {
		return nil
	}
	return secrets.FindAllStringIndex(text, -1)
}

// check is the pair of characters that goes with the rest of a key.
func check(rest string) string {
	sum := sha256.Sum256([]byte(rest))
	return string([]byte{alphabet[sum[0]%32], alphabet[sum[1]%32]})
}

func hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Proof shows who knows the challenge that this is the keyring of the owner key, and tells nothing about the key: it is the
// HMAC-SHA-256 (RFC 2104) of challenge and address under the hash of the key. The address is the one that the gate listens at, so
// that nobody else can pass the proof on as its own.
func (r *Keyring) Proof(ctx context.Context, challenge, address string) ([]byte, error) {
	keys, err := r.Keys(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(keys, func(k Key) bool { return k.Owner && k.Revoked.IsZero() })
	if i < 0 {
		return nil, exchange.Errorf(exchange.Unavailable, "no_owner_key", "this gate has no owner key; start it anew to get one")
	}
	return proof(keys[i].Hash, challenge, address), nil
}

// Proves reports whether a gate at address has answered a challenge as only one can that knows this key.
func Proves(secret, challenge, address string, answer []byte) bool {
	return hmac.Equal(answer, proof(hash(secret), challenge, address))
}

func proof(key []byte, challenge, address string) []byte {
	m := hmac.New(sha256.New, key)
	fmt.Fprintf(m, "kindred gate\n%s\n%s", challenge, address)
	return m.Sum(nil)
}
