// Package freeport finds TCP ports for servers that tests start.
package freeport

import (
	"fmt"
	"math/rand/v2"
	"net"
	"testing"
)

// On returns a port of 127.0.0.1 that nobody listens at. It is below the ports that
// systems give to connections and to those who ask for any port (RFC 6335, section 6,
// and 32768 upwards on Linux), so that nothing else takes it before the server is up.
func On(t testing.TB) int {
	t.Helper()
	for range 1000 {
		port := 20000 + rand.IntN(12000)
		if l, err := net.Listen("tcp", fmt.Sprint("127.0.0.1:", port)); err == nil {
			l.Close()
			return port
		}
	}
	t.Fatal("no port is free")
	return 0
}
