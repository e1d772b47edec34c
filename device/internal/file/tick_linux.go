package file

import (
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// systemTick counts the time since the machine was started, sleep included.
func systemTick() Tick {
	text, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	boot := strings.TrimSpace(string(text))
	var at unix.Timespec
	if err != nil || boot == "" || unix.ClockGettime(unix.CLOCK_BOOTTIME, &at) != nil {
		return processTick()
	}
	return func() (string, time.Duration) {
		var at unix.Timespec
		if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &at); err != nil {
			return "", 0 // says nothing of any change
		}
		return boot, time.Duration(at.Nano())
	}
}
