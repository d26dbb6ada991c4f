package standin

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/secret"
)

// ConnectionsFile returns a connections file with which probes reach the service: its text.
// secretFile holds the password of all logins; strangers are outside addresses to
// write from.
func (r Ready) ConnectionsFile(secretFile string, strangers []string, limits string) string {
	authority := ""
	if r.Certificate != "" {
		authority = fmt.Sprintf("    authority: %q\n", r.Certificate)
	}
	var list strings.Builder
	for _, s := range strangers {
		fmt.Fprintf(&list, "  - %s\n", s)
	}
	return fmt.Sprintf(`yorvet-connections: 1
# The ways to a stand-in, as it listens now.
send:
  - name: inside
    server: %[1]s
%[6]s    from: [inside]
    login: {user: "{address}", password: {file: %[5]q}}
  - name: outside
    server: %[2]s
    tls: none
    from: [anyone]
  - name: forged
    server: %[2]s
    tls: none
    from: [anyone]
    claims: true
look:
  - server: %[3]s
    tls: implicit
%[6]s    for: [anyone]
    login: {user: %[4]s, as: "{address}", password: {file: %[5]q}}
strangers:
%[7]slimits:
%[8]s`, r.Submission, r.Outside, r.IMAPS, r.Keeper, secretFile, authority, list.String(), limits)
}

// Secret returns the password in a file that only its owner may read. Where there
// is no such file, it makes one with a new password.
func Secret(ctx context.Context, path string) (string, error) {
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		text := newID()
		return text, localfile.WritePrivate(path, []byte(text+"\n"))
	}
	from := secret.From{File: path}
	text, err := from.Fetch(ctx, "")
	return text.Reveal(), err
}
