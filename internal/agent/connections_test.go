package agent

import (
	"os"
	"path/filepath"
	"testing"

	"yorvet.example/yorvet/internal/connections"
)

// connectionsFor are connections that believe requests from a list server.
func connectionsFor(t *testing.T) *connections.Connections {
	t.Helper()
	path := filepath.Join(t.TempDir(), "connections.yaml")
	text := "yorvet-connections: 1\nsend: [{name: in, server: \"127.0.0.1:9\", tls: none, from: [inside]}]\nrequests-from: [\"@lists.example\"]\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := connections.Load(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	return l
}
