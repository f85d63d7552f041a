package runner

import (
	"os"
	"strings"
)

// Boot names this start of the system, "" if it has no name for it (random(4)).
func Boot() string {
	id, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(id))
}
