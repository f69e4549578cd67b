package statefile

import (
	"fmt"
	"os"
	"runtime"
	"sync"
)

// Program identifies this program, as it is on disk.
var Program = sync.OnceValue(func() string {
	self, err := os.Executable()
	if err != nil {
		return ""
	}
	info, err := os.Stat(self)
	if err != nil {
		return ""
	}
	return fmt.Sprint(self, info.Size(), info.ModTime().UnixNano(), runtime.Version())
})
