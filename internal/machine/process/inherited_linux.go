package process

import "golang.org/x/sys/unix"

// CloseInherited keeps descriptors that this process inherited beside its standard ones from what it
// starts: whoever started it may have open what no task should reach.
func CloseInherited() { _ = unix.CloseRange(3, ^uint(0), unix.CLOSE_RANGE_CLOEXEC) } // before Linux 5.11 they stay
