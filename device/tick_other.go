//go:build !linux

package device

func systemTick() Tick { return processTick() }
