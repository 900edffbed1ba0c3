package machine

import (
	"os"
	"path/filepath"
	"testing"
)

// A machine is on battery only if the system says that one is discharging, and no other supply is there.
func TestOnBattery(t *testing.T) {
	for name, c := range map[string]struct {
		supplies map[string]map[string]string
		want     bool
	}{
		"none":          {nil, false},
		"discharging":   {map[string]map[string]string{"BAT0": {"type": "Battery", "status": "Discharging"}, "AC": {"type": "Mains", "online": "0"}}, true},
		"charging":      {map[string]map[string]string{"BAT0": {"type": "Battery", "status": "Charging"}, "AC": {"type": "Mains", "online": "1"}}, false},
		"full":          {map[string]map[string]string{"BAT0": {"type": "Battery", "status": "Full"}}, false},
		"weak supply":   {map[string]map[string]string{"BAT0": {"type": "Battery", "status": "Discharging"}, "C": {"type": "USB", "online": "1"}}, false},
		"of a mouse":    {map[string]map[string]string{"M": {"type": "Battery", "scope": "Device", "status": "Discharging"}}, false},
		"only the wall": {map[string]map[string]string{"AC": {"type": "Mains", "online": "0"}}, false},
	} {
		folder := t.TempDir()
		for supply, files := range c.supplies {
			if err := os.Mkdir(filepath.Join(folder, supply), 0o700); err != nil {
				t.Fatal(err)
			}
			for file, text := range files {
				if err := os.WriteFile(filepath.Join(folder, supply, file), []byte(text+"\n"), 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
		if got := onBattery(folder); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
