package cluster

import "os/exec"

func asServer(*exec.Cmd) error { return nil }

func (c *Cluster) giveToServer() error { return nil }

func chown(string) error { return nil }
