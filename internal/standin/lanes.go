package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// LanesFile returns a lanes file with which probes reach the service: its text.
// secretFile holds the password of all logins; strangers are outside addresses to
// write from.
func (r Ready) LanesFile(secretFile string, strangers []string, limits string) string {
	authority := ""
	if r.Certificate != "" {
		authority = fmt.Sprintf("    authority: %q\n", r.Certificate)
	}
	var list strings.Builder
	for _, s := range strangers {
		fmt.Fprintf(&list, "  - %s\n", s)
	}
	return fmt.Sprintf(`yorvet-lanes: 1
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
func Secret(path string) (string, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		text := newID()
		return text, os.WriteFile(path, []byte(text+"\n"), 0o600)
	}
	if err != nil {
		return "", err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("others may read %s, which holds the password; expected permissions 0600", path)
	}
	data, err := os.ReadFile(path)
	text := strings.TrimSpace(string(data))
	if err == nil && text == "" {
		err = fmt.Errorf("%s is empty, expected a password", path)
	}
	return text, err
}
