package remote

import "testing"

// A link-local address works where it was written as one; a name never leads to one, nor to what listens on this machine.
func TestGuard(t *testing.T) {
	for _, c := range []struct {
		host, address string
		ok            bool
	}{
		{"attic.example", "192.0.2.7:80", true},
		{"attic.example", "169.254.10.2:80", false},
		{"attic.example", "[fe80::1%lo]:80", false},
		{"attic.example", "127.0.0.1:80", false},
		{"attic.example", "0.0.0.0:80", false},
		{"169.254.10.2", "169.254.10.2:8000", true},
		{"fe80::1%lo", "[fe80::1%lo]:8000", true},
		{"127.0.0.1", "127.0.0.1:80", true},
		{"127.0.0.1", "169.254.10.2:80", false},
		{"localhost", "[::1]:80", true},
		{"224.0.0.1", "224.0.0.1:80", false},
	} {
		if err := guard(c.host)("tcp", c.address, nil); (err == nil) != c.ok {
			t.Errorf("%s at %s: %v", c.host, c.address, err)
		}
	}
}
