//go:build unix

package cluster

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
)

// serverUser is the user that the server runs as if root starts it.
const serverUser = "postgres"

func ids() (uid, gid int, err error) {
	u, err := user.Lookup(serverUser)
	if err != nil {
		return 0, 0, fmt.Errorf(
			"PostgreSQL refuses to run as root, and there is no user %q to run it "+
				"as: install the server packages, or start the service as another user",
			serverUser,
		)
	}
	if uid, err = strconv.Atoi(u.Uid); err != nil {
		return 0, 0, err
	}
	gid, err = strconv.Atoi(u.Gid)
	return uid, gid, err
}

func asServer(cmd *exec.Cmd) error {
	if os.Geteuid() != 0 {
		return nil
	}
	uid, gid, err := ids()
	if err != nil {
		return err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	return nil
}

// giveToServer gives the directory to the server's user, and checks that this user can
// reach it.
func (c *Cluster) giveToServer() error {
	if os.Geteuid() != 0 {
		return nil
	}
	uid, _, err := ids()
	if err != nil {
		return err
	}
	if err := chown(c.dir); err != nil {
		return err
	}
	for d := filepath.Dir(c.dir); ; d = filepath.Dir(d) {
		info, err := os.Stat(d)
		if err != nil {
			return err
		}
		st, ok := info.Sys().(*syscall.Stat_t)
		if ok && info.Mode()&0o001 == 0 && st.Uid != uint32(uid) {
			return fmt.Errorf(
				"PostgreSQL refuses to run as root, so it runs as the user %q, who cannot "+
					"reach %s because of %s: choose another --data, such as /var/lib/grayloft",
				serverUser,
				c.dir,
				d,
			)
		}
		if d == filepath.Dir(d) {
			return nil
		}
	}
}

// chown gives a file to the server's user.
func chown(file string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	uid, gid, err := ids()
	if err != nil {
		return err
	}
	return os.Chown(file, uid, gid)
}
