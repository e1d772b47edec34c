//go:build !linux

package file

func systemTick() Tick { return processTick() }
