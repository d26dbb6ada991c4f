package standin

import (
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/emersion/go-imap/v2/imapserver"

	"yorvet.example/yorvet/internal/clock"
)

// Every name that a folder may have is the name of one file, and found again.
func TestFolderNamesOnDisk(t *testing.T) {
	seen := map[string]string{}
	for _, name := range []string{inbox, junkFolder, archiveFolder, "inbox", "junk", "..", ".", "...", "../..", "a/b", "a_2fb", "a_b", "a=b", "=a", `a\b`, "CON", "nul", "Lists.x", "é", "tmp", "new", "~", "%2e%2e", "a b",
		strings.Repeat("/x", maxFolderName/2)[1:], strings.Repeat(".", maxFolderName)} {
		disk := onDisk(name)
		if disk == "" || disk == "." || disk == ".." || filepath.Base(disk) != disk || strings.ContainsAny(disk, `/\:`) || len(disk) > 255 {
			t.Errorf("%q is called %q on disk", name, disk)
		}
		if other, there := seen[disk]; there {
			t.Errorf("%q and %q are both called %q", name, other, disk)
		}
		seen[disk] = name
		if back, ok := fromDisk(disk); !ok || back != name {
			t.Errorf("%q comes back as %q, %v", name, back, ok)
		}
	}
	for _, disk := range []string{"..", "x", "=", "=_", "=_2", "=_zz", "=_41", "=_00", "=a_2f_2fb", "=.", "= "} {
		if name, ok := fromDisk(disk); ok {
			t.Errorf("%q is taken for the folder %q", disk, name)
		}
	}
	for _, name := range []string{"", "/", "/a", "a//b", "a/", "a\x00", "a\nb", "a\x7f", strings.Repeat("x", maxFolderName+1)} {
		if checkFolder(name) == nil {
			t.Errorf("%q may be a folder", name)
		}
	}
}

func FuzzFolderNames(f *testing.F) {
	f.Add("../x", "=_2e")
	f.Fuzz(func(t *testing.T, name, disk string) {
		if checkFolder(name) == nil {
			if back, ok := fromDisk(onDisk(name)); !ok || back != name {
				t.Errorf("%q comes back as %q, %v", name, back, ok)
			}
		}
		if name, ok := fromDisk(disk); ok && onDisk(name) != disk {
			t.Errorf("%q is read as %q, which is called %q", disk, name, onDisk(name))
		}
	})
}

// Patterns pick what the library's own slow way picks, and no pattern takes long.
func TestPatterns(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	word := func(letters string, most int) string {
		var b strings.Builder
		for range random.IntN(most) {
			b.WriteByte(letters[random.IntN(len(letters))])
		}
		return b.String()
	}
	picked := 0
	for range 100_000 {
		name, reference, pattern := word("ab/", 8), word("ab/", 3), word("ab/**%%", 7)
		want := imapserver.MatchList(name, '/', reference, pattern)
		if want {
			picked++
		}
		if got := matches(name, reference, pattern); got != want {
			t.Fatalf("%q with %q picks %q: %v, want %v", pattern, reference, name, got, want)
		}
	}
	if picked < 1000 {
		t.Errorf("only %d were picked", picked)
	}
	// What tried every way would not end.
	if matches(strings.Repeat("a", maxFolderName), "", strings.Repeat("*a", maxPattern/2)+"b") {
		t.Error("a name without b is picked")
	}
}

// Whoever does not know the password waits for the answer, longer each time, in the time of
// a bubble; whoever knows it does not.
func TestWrongLoginsAreSlow(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &post{options: Options{Secret: "tide"}, queue: &queue{quit: make(chan struct{})}}
		began := clock.Now()
		for range 6 {
			if p.knows(t.Context(), "wrong") {
				t.Fatal("a wrong password is right")
			}
		}
		if took := clock.Since(began); took != 1750*time.Millisecond {
			t.Errorf("6 wrong logins take %v", took)
		}
		began = clock.Now()
		if !p.knows(t.Context(), "tide") || clock.Since(began) != 0 {
			t.Errorf("a right login takes %v", clock.Since(began))
		}
	})
}

// A slow connection waits before each answer.
func TestSlowConnection(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ours, theirs := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, theirs) }()
		began := clock.Now()
		slow := &faultyConn{Conn: ours, wait: time.Second}
		for range 3 {
			if _, err := slow.Write([]byte("250 x\r\n")); err != nil {
				t.Fatal(err)
			}
		}
		if took := clock.Since(began); took != 3*time.Second {
			t.Errorf("3 answers take %v", took)
		}
		ours.Close()
	})
}

// The more wrong logins there are, the longer their answers wait; after a while
// without any that is forgotten.
func TestLoginDelays(t *testing.T) {
	var l logins
	now := clock.Now()
	for i, want := range []time.Duration{0, 0, 0, 250, 500, 1000, 2000, 4000, 4000} {
		if got := l.delay(now); got != want*time.Millisecond {
			t.Errorf("failure %d waits %v, want %v ms", i+1, got, int(want))
		}
	}
	if got := l.delay(now.Add(2 * forgetAfter)); got != 0 {
		t.Errorf("after a while it waits %v", got)
	}
}

// The faults in the document are read.
func TestDocumentedFaults(t *testing.T) {
	document, err := os.ReadFile("../../docs/standin.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := strings.Cut(string(document), "```yaml\nyorvet-faults: 1\n")
	text, _, found := strings.Cut(text, "```")
	path := filepath.Join(t.TempDir(), "faults.yaml")
	if err := os.WriteFile(path, []byte("yorvet-faults: 1\n"+text), 0o600); err != nil {
		t.Fatal(err)
	}
	if f, err := ReadFaults(t.Context(), path); err != nil || !found || len(f.List) < 5 {
		t.Errorf("%v, %v", f, err)
	}
}
