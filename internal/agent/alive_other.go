//go:build !unix

package agent

// isAlive reports whether a process of this machine is there: here nobody can say, and what
// it holds is free when it has been silent for a while.
func isAlive(int) bool { return true }
