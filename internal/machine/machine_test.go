package machine

import (
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/weights"
)

// What is told of the machine holds together, whatever machine it is.
func TestTheMachineIsTold(t *testing.T) {
	total, free, resident := Memory(), Available(), Resident()
	if total <= 0 || free <= 0 || free > total || resident <= 0 || resident > total {
		t.Errorf("of %d bytes %d are free, and this process has %d", total, free, resident)
	}
	if bytes, ok := FreeSpace(t.TempDir()); !ok || bytes <= 0 {
		t.Errorf("%d bytes are free, %v", bytes, ok)
	}
	if bytes, ok := FreeSpace("/no/such/folder"); ok {
		t.Errorf("a folder that is not there has %d bytes", bytes)
	}
	before := Busy()
	for end := time.Now().Add(10 * time.Second); Busy() == before; {
		if time.Now().After(end) {
			t.Fatal("a loop keeps no processor busy")
		}
	}
}

// The speed of weights is known whatever they have for scales.
func TestSpeed(t *testing.T) {
	for _, kind := range []weights.Type{weights.F32, weights.F8, weights.Q4_K, weights.MXFP4Split} {
		if rate := Rate(kind.String(), 1<<20); !(rate > 0) {
			t.Errorf("%s: %g tokens/s", kind, rate)
		}
	}
}

// Who listens at an address is named.
func TestListener(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := uint32(l.Addr().(*net.TCPAddr).Port)
	name, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	// Names of processes are cut at 15 characters by some systems.
	short := name[strings.LastIndexByte(name, '/')+1:]
	if got := Listener("127.0.0.1", port); !strings.Contains(got, short[:min(len(short), 12)]) || !strings.Contains(got, "process ") {
		t.Errorf("%q listens, not %q", got, short)
	}
	if got := Listener("127.0.0.2", port); got != "" {
		t.Errorf("at another address %q listens", got)
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if got := Listener("127.0.0.1", port); got != "" {
		t.Errorf("%q still listens", got)
	}
}
