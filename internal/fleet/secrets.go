package fleet

import (
	"encoding/json"
	"fmt"

	"github.com/nats-io/nkeys"
)

// Secrets are the keys of a gate, or of all gates that share NATS servers: seeds in the written form of NKeys.
type Secrets struct {
	User   string `json:"user"`   // that gates sign in to NATS with
	Issuer string `json:"issuer"` // of the account key that lets machines in
	Seal   string `json:"seal"`   // that messages to gates are sealed for
}

// NewSecrets makes keys.
func NewSecrets() (s Secrets, err error) {
	for _, one := range []struct {
		to   *string
		make func() (nkeys.KeyPair, error)
	}{{&s.User, nkeys.CreateUser}, {&s.Issuer, nkeys.CreateAccount}, {&s.Seal, nkeys.CreateCurveKeys}} {
		k, err := one.make()
		if err != nil {
			return s, err
		}
		seed, err := k.Seed()
		if err != nil {
			return s, err
		}
		*one.to = string(seed)
	}
	return s, nil
}

// ParseSecrets reads keys as [Secrets] are written in JSON.
func ParseSecrets(raw []byte) (s Secrets, err error) {
	if err := json.Unmarshal(raw, &s); err != nil {
		return s, fmt.Errorf("it is no JSON with user, issuer and seal: %w", err)
	}
	_, err = s.open()
	return s, err
}

// keys are secrets that were read.
type keys struct {
	user, issuer, seal                   nkeys.KeyPair
	userPublic, issuerPublic, sealPublic string
}

func (s Secrets) open() (k keys, err error) {
	for _, one := range []struct {
		name, seed string
		kind       nkeys.PrefixByte
		to         *nkeys.KeyPair
		public     *string
	}{{"user", s.User, nkeys.PrefixByteUser, &k.user, &k.userPublic}, {"issuer", s.Issuer, nkeys.PrefixByteAccount, &k.issuer, &k.issuerPublic}, {"seal", s.Seal, nkeys.PrefixByteCurve, &k.seal, &k.sealPublic}} {
		kind, _, err := nkeys.DecodeSeed([]byte(one.seed))
		if err != nil || kind != one.kind {
			return k, fmt.Errorf("%s is no seed of the right kind; \"kindred gates prepare\" makes them", one.name)
		}
		parse := nkeys.FromSeed
		if kind == nkeys.PrefixByteCurve {
			parse = nkeys.FromCurveSeed
		}
		if *one.to, err = parse([]byte(one.seed)); err != nil {
			return k, err
		}
		if *one.public, err = (*one.to).PublicKey(); err != nil {
			return k, err
		}
	}
	return k, nil
}

// Authorization is what the configuration of NATS servers needs for gates with these keys to sign in, and to say who else may.
func (s Secrets) Authorization() (string, error) {
	k, err := s.open()
	return fmt.Sprintf(`authorization {
  timeout: %[3]d
  users: [ { nkey: %[1]s } ]
  auth_callout {
    issuer: %[2]s
    auth_users: [ %[1]s ]
  }
}
`, k.userPublic, k.issuerPublic, authTimeout), err
}
