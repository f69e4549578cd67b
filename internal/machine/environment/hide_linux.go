package environment

import (
	"bytes"
	"os"
	"strconv"
	"strings"
)

// hide overwrites the value of a variable in the memory that /proc/PID/environ
// shows (proc(5): env_start and env_end are the fields 50 and 51 of stat).
// Otherwise every process of the same person could read it there.
func hide(name string) {
	stat, err := os.ReadFile("/proc/self/stat")
	if err != nil {
		return
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:])) // from the third field on
	if len(fields) < 49 {
		return
	}
	start, serr := strconv.ParseInt(fields[47], 10, 64)
	end, eerr := strconv.ParseInt(fields[48], 10, 64)
	mem, err := os.OpenFile("/proc/self/mem", os.O_RDWR, 0)
	if serr != nil || eerr != nil || err != nil || end <= start || end-start > 1<<22 {
		return
	}
	defer mem.Close()
	block := make([]byte, end-start)
	if _, err := mem.ReadAt(block, start); err != nil {
		return
	}
	at := 0
	for kv := range bytes.SplitSeq(block, []byte{0}) {
		if value, ok := bytes.CutPrefix(kv, []byte(name+"=")); ok {
			_, _ = mem.WriteAt(make([]byte, len(value)), start+int64(at+len(kv)-len(value)))
		}
		at += len(kv) + 1
	}
}
