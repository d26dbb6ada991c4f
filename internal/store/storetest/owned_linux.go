package storetest

import (
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// ownedBy has a command end with this process, and, where this is root, which a server
// refuses to be, run as somebody else, who gets the folder.
func ownedBy(cmd *exec.Cmd, name, dir string) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGQUIT}
	if os.Getuid() != 0 {
		return
	}
	if who, err := user.Lookup(name); err == nil {
		uid, _ := strconv.Atoi(who.Uid)
		gid, _ := strconv.Atoi(who.Gid)
		_ = os.Chown(dir, uid, gid)
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
}
