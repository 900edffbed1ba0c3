package machine

import (
	"os"
	"path/filepath"
	"strings"
)

// powerFolder is where Linux tells of supplies of power (sysfs, class power_supply).
const powerFolder = "/sys/class/power_supply"

// OnBattery reports whether the machine runs on battery, as far as the system says so.
func OnBattery() bool { return onBattery(powerFolder) }

func onBattery(folder string) bool {
	supplies, err := filepath.Glob(filepath.Join(folder, "*"))
	if err != nil {
		return false
	}
	discharging := false
	for _, s := range supplies {
		read := func(name string) string {
			raw, _ := os.ReadFile(filepath.Join(s, name)) // what is not there says nothing
			return strings.TrimSpace(string(raw))
		}
		switch read("type") {
		case "Mains", "USB":
			if read("online") == "1" {
				return false
			}
		case "Battery":
			// That of a mouse has the scope of a device.
			if read("scope") != "Device" && read("status") == "Discharging" {
				discharging = true
			}
		}
	}
	return discharging
}
