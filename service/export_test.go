package service

import "time"

// Hasten has all services of the process try messages again after a short time.
func Hasten(after time.Duration) { pause = func(int) time.Duration { return after } }
