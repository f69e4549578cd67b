package listing

import (
	"io/fs"
	"testing"
)

// Nothing is ever restored more readable than it was.
func TestKindsKeepWhetherOthersMayRead(t *testing.T) {
	for mode := range fs.FileMode(0o1000) {
		k := KindOf(mode)
		if !k.IsFile() || KindOf(k.Mode()) != k {
			t.Fatalf("%o is of kind %c", mode, k)
		}
		if back := k.Mode(); back&0o100 != mode&0o100 && mode&0o100 != 0 || back&0o004 != mode&0o004 || back&^0o755 != 0 {
			t.Errorf("%o is restored as %o", mode, back)
		}
	}
	for _, k := range []Kind{Link, EmptyDir, Tree} {
		if k.IsFile() {
			t.Errorf("%c has contents", k)
		}
	}
}
