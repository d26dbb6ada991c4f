package main

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/freeport"
)

// A realDirectory is Debian's slapd on loopback, in a temporary folder.
type realDirectory struct {
	dir       string
	port, tls int // of ldap and ldaps
}

const (
	directoryBase   = "dc=kelpmere,dc=example"
	directoryReader = "cn=reader," + directoryBase
	directorySecret = "brine-77"
)

// slapd starts a directory with an LDIF in it. limits are lines for its
// configuration.
func slapd(t *testing.T, content, limits string) *realDirectory {
	t.Helper()
	for _, name := range []string{"/usr/sbin/slapd", "/usr/bin/ldapmodify"} {
		if _, err := os.Stat(name); err != nil {
			if os.Getenv("YORVET_TEST_SERVERS") != "" {
				t.Fatal(err)
			}
			t.Skipf("%s is not installed here (Debian: slapd, ldap-utils)", name)
		}
	}
	dir, err := os.MkdirTemp("/tmp", "yv")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	d := &realDirectory{dir: dir}
	for _, port := range []*int{&d.port, &d.tls} {
		*port = freeport.On(t)
	}
	writeCertificate(t, dir)
	var b strings.Builder
	for _, schema := range []string{"core", "cosine", "nis", "inetorgperson", "misc", "dyngroup"} {
		fmt.Fprintf(&b, "include /etc/ldap/schema/%s.schema\n", schema)
	}
	fmt.Fprintf(&b, "modulepath /usr/lib/ldap\nmoduleload back_mdb\npidfile %[1]s/pid\nTLSCertificateFile %[1]s/cert.pem\nTLSCertificateKeyFile %[1]s/key.pem\n%[2]s"+
		"database mdb\nsuffix %[3]q\nrootdn \"cn=admin,%[3]s\"\nrootpw tide\ndirectory %[1]s/db\nindex objectClass eq\n"+
		"access to attrs=userPassword by anonymous auth by * none\naccess to dn.subtree=\"ou=groups,%[3]s\" by dn.exact=\"cn=half,%[3]s\" none by dn.exact=%[4]q read by dn.regex=\"gidNumber=.*peercred.*\" read by * none\n"+
		"access to * by dn.exact=\"cn=half,%[3]s\" read by dn.exact=%[4]q read by dn.regex=\"gidNumber=.*peercred.*\" read by * none\n", dir, limits, directoryBase, directoryReader)
	content = "dn: " + directoryBase + "\nobjectClass: dcObject\nobjectClass: organization\no: Kelpmere Ferries\ndc: kelpmere\n\n" +
		"dn: " + directoryReader + "\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: reader\nuserPassword: " + directorySecret + "\n\n" +
		"dn: cn=half," + directoryBase + "\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: half\nuserPassword: " + directorySecret + "\n\n" + content
	for name, text := range map[string]string{"slapd.conf": b.String(), "content.ldif": content, "secret": directorySecret + "\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(dir, "db"), 0o700); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("/usr/sbin/slapadd", "-q", "-f", filepath.Join(dir, "slapd.conf"), "-l", filepath.Join(dir, "content.ldif")).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	var output bytes.Buffer
	cmd := exec.Command("/usr/sbin/slapd", "-h", fmt.Sprintf("ldap://127.0.0.1:%d/ ldaps://127.0.0.1:%d/ ldapi://%s/", d.port, d.tls, url.PathEscape(dir+"/ldapi")), "-f", filepath.Join(dir, "slapd.conf"), "-d", "0")
	cmd.Stdout, cmd.Stderr = &output, &output
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	await(t, func() bool {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", d.port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	return d
}

// writeCertificate writes a certificate for 127.0.0.1 and its key.
func writeCertificate(t *testing.T, dir string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"},
		NotBefore: clock.Machine().Add(-time.Hour), NotAfter: clock.Machine().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: der}, "key.pem": {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// people returns the LDIF of people and nested groups.
func directoryPeople(people int) string {
	var b strings.Builder
	for _, unit := range []string{"people", "groups"} {
		fmt.Fprintf(&b, "dn: ou=%[1]s,%[2]s\nobjectClass: organizationalUnit\nou: %[1]s\n\n", unit, directoryBase)
	}
	for i := range people {
		fmt.Fprintf(&b, "dn: uid=p%03[1]d,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: p%03[1]d\ncn: Person %[1]d\nsn: %[1]d\nmail: p%03[1]d@kelpmere.example\nou: unit-%[3]d\n\n", i, directoryBase, i%5)
	}
	group := func(name string, members ...string) {
		fmt.Fprintf(&b, "dn: cn=%[1]s,ou=groups,%[2]s\nobjectClass: groupOfNames\nobjectClass: extensibleObject\ncn: %[1]s\nmail: %[1]s@kelpmere.example\nowner: uid=p000,ou=people,%[2]s\n", name, directoryBase)
		for _, m := range members {
			fmt.Fprintf(&b, "member: %s,%s\n", m, directoryBase)
		}
		b.WriteString("\n")
	}
	var deck []string
	for i := 0; i < people; i += 3 {
		deck = append(deck, fmt.Sprintf("uid=p%03d,ou=people", i))
	}
	group("deck", deck...)
	group("engine", "uid=p001,ou=people", "uid=p004,ou=people")
	group("crew", "cn=deck,ou=groups", "cn=engine,ou=groups")
	group("all", "cn=crew,ou=groups", "uid=p002,ou=people")
	fmt.Fprintf(&b, "dn: cn=unit-3,ou=groups,%[1]s\nobjectClass: groupOfURLs\nobjectClass: extensibleObject\ncn: unit-3\nmail: unit-3@kelpmere.example\nmemberURL: ldap:///ou=people,%[1]s??sub?(ou=unit-3)\n\n", directoryBase)
	return b.String()
}

// sourceFile writes a source file for a directory, and returns its path.
func (d *realDirectory) sourceFile(t *testing.T, dir, text string) string {
	t.Helper()
	text = strings.NewReplacer("{port}", fmt.Sprint(d.port), "{tls}", fmt.Sprint(d.tls), "{dir}", d.dir, "{socket}", url.PathEscape(d.dir+"/ldapi")).Replace("yorvet-source: 1\nname: hq\npage: 7\ndomains: [kelpmere.example]\n" + text)
	path := filepath.Join(dir, "hq.yaml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

const simpleBind = "from: ldap://127.0.0.1:{port}/" + directoryBase + "\nlogin: {user: \"" + directoryReader + "\", password: {file: \"{dir}/secret\"}}\n"

// The whole circle against a real directory: import live and in pages, change the
// estate, hand the change out as LDIF, apply it with ldapmodify, import again.
func TestRealDirectory(t *testing.T) {
	d := slapd(t, directoryPeople(60), "")
	dir := t.TempDir()
	ask := func(code int, args ...string) result {
		t.Helper()
		r := run(t, dir, nil, args)
		if r.code != code {
			t.Fatalf("yorvet %q: exit code %d, want %d\n%s%s", args, r.code, code, r.stdout, r.stderr)
		}
		return r
	}
	ways := map[string]string{
		"plain":    simpleBind + "tls: none\n",
		"starttls": simpleBind + "tls: starttls\nauthority: \"{dir}/cert.pem\"\n",
		"ldaps":    strings.Replace(simpleBind, "ldap://127.0.0.1:{port}", "ldaps://127.0.0.1:{tls}", 1) + "authority: \"{dir}/cert.pem\"\n",
		"external": "from: ldapi://{socket}/" + directoryBase + "\nlogin: {external: true}\n",
	}
	var first string
	for _, name := range []string{"plain", "starttls", "ldaps", "external"} {
		d.sourceFile(t, dir, ways[name])
		ask(0, "import", "hq.yaml", "-o", "estate-"+name)
		data, err := os.ReadFile(filepath.Join(dir, "estate-"+name, "estate.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		if first == "" {
			first = string(data)
		}
		if string(data) != first || strings.Count(first, "- address: p") != 60 || !strings.Contains(first, "{where: (unit=unit-3)}") {
			t.Errorf("%s: another estate:\n%s", name, data)
		}
	}
	estate := []string{"--estate", "estate-plain"}
	d.sourceFile(t, dir, ways["plain"])
	ask(0, "compare", "hq.yaml", "estate-plain")
	change := func(args ...string) { t.Helper(); ask(0, append(append(estate, args...), "--yes")...) }
	change("member", "add", "engine@kelpmere.example", "p005@kelpmere.example", "p007@kelpmere.example")
	change("member", "remove", "deck@kelpmere.example", "p003@kelpmere.example", "p006@kelpmere.example")
	change("member", "add", "deck@kelpmere.example", "p001@kelpmere.example", "--as", "owner")
	change("group", "set", "crew@kelpmere.example", "about=Everybody aboard: \"all hands\"", "title=Crëw")
	change("group", "new", "storm@kelpmere.example", "--member", "p002@kelpmere.example", "--member", "crew@kelpmere.example", "--owner", "p000@kelpmere.example", "--managed-in", "hq", "--title", "Storm")
	change("member", "add", "all@kelpmere.example", "storm@kelpmere.example")
	change("group", "remove", "unit-3@kelpmere.example")
	change("group", "new", "ours@kelpmere.example", "--member", "p002@kelpmere.example")
	ask(1, "compare", "hq.yaml", "estate-plain")
	ask(0, append(estate, "export", "--as", "ldif", "--since", "hq.yaml", "-o", "change.ldif")...)
	r := ask(1, append(estate, "export", "--as", "ldif", "--since", "estate-external", "--for", "hq", "--ids", "hq.yaml")...)
	if !strings.Contains(r.stderr, "ours@kelpmere.example: the estate does not say where it is managed") {
		t.Errorf("the group of nobody's is not refused:\n%s", r.stderr)
	}
	if data, _ := os.ReadFile(filepath.Join(dir, "change.ldif")); string(data) != r.stdout {
		t.Errorf("since the source:\n%s\nsince the estate that was made of it:\n%s", data, r.stdout)
	}
	modify := exec.Command("/usr/bin/ldapmodify", "-x", "-H", fmt.Sprintf("ldap://127.0.0.1:%d", d.port), "-D", "cn=admin,"+directoryBase, "-w", "tide", "-f", filepath.Join(dir, "change.ldif"))
	if out, err := modify.CombinedOutput(); err != nil {
		data, _ := os.ReadFile(filepath.Join(dir, "change.ldif"))
		t.Fatalf("ldapmodify: %v\n%s\n%s", err, out, data)
	}
	r = ask(0, "compare", "hq.yaml", "estate-plain")
	if !strings.Contains(r.stdout, "Nothing changes for anybody.") {
		t.Errorf("the directory is not where the estate is:\n%s", r.stdout)
	}
	r = ask(0, "import", "hq.yaml", "-o", "estate-plain", "--yes", "--json")
	var answer struct {
		Change struct {
			Files []struct{ File string }
		}
	}
	if err := json.Unmarshal([]byte(r.stdout), &answer); err != nil || len(answer.Change.Files) > 0 {
		t.Errorf("importing again changes files: %v %s", err, r.stdout)
	}
}

// What a directory refuses or holds back is said, and no secret shows.
func TestRealDirectoryRefuses(t *testing.T) {
	ring := "dn: ou=ring," + directoryBase + "\nobjectClass: referral\nobjectClass: extensibleObject\nou: ring\nref: ldap://127.0.0.1:1/ou=ring," + directoryBase + "\nref: ldap://127.0.0.1:{self}/ou=ring," + directoryBase + "\n\n"
	d := slapd(t, directoryPeople(60)+ring, "sizelimit 20\n")
	dir := t.TempDir()
	d.sourceFile(t, dir, simpleBind+"tls: none\n")
	r := run(t, dir, nil, []string{"import", "hq.yaml", "-o", "part"})
	if r.code != 3 || !strings.Contains(strings.Join(strings.Fields(r.stdout), " "), "the directory gives no more than 20 entries to this login") {
		t.Errorf("exit code %d\n%s%s", r.code, r.stdout, r.stderr)
	}
	// What the directory held back does not go from an estate that has it.
	if err := os.WriteFile(filepath.Join(dir, "whole.yaml"), []byte("yorvet: 1\ndomains: [kelpmere.example]\ngroups:\n- {address: unit-3@kelpmere.example, managed-in: hq}\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if r := run(t, dir, nil, []string{"import", "hq.yaml", "-o", "whole.yaml", "--yes", "--prune"}); r.code != 3 {
		t.Fatal(r.stderr)
	}
	if data, _ := os.ReadFile(filepath.Join(dir, "whole.yaml")); !bytes.Contains(data, []byte("unit-3@")) {
		t.Errorf("a group went because the directory did not give all:\n%s", data)
	}
	for _, test := range []struct {
		source, want string
		code         int
	}{
		{strings.Replace(simpleBind, directoryReader+"\"", "cn=nobody,"+directoryBase+"\"", 1) + "tls: none\n", "does not let cn=nobody", 3},
		{simpleBind + "tls: starttls\n", "cannot be secured", 3},
		{"from: ldap://127.0.0.1:1/dc=x\n", "cannot be reached", 3},
		{strings.Replace(simpleBind, directoryBase+"\n", "dc=elsewhere\n", 1) + "tls: none\n", "refer", 3},
		{strings.Replace(simpleBind, "127.0.0.1", "directory.kelpmere.example", 1) + "tls: none\n", "without TLS would show the password", 2},
	} {
		d.sourceFile(t, dir, test.source)
		r := run(t, dir, nil, []string{"import", "hq.yaml", "-o", "none"})
		if test.want == "refer" && strings.Contains(r.stderr, "no entry") {
			test.want = "no entry"
		}
		if r.code != test.code || !strings.Contains(r.stderr, test.want) || strings.Contains(r.stdout+r.stderr, directorySecret) {
			t.Errorf("%s\nexit code %d, want %d with %q\n%s%s", test.source, r.code, test.code, test.want, r.stdout, r.stderr)
		}
		if _, err := os.Stat(filepath.Join(dir, "none")); err == nil {
			t.Error("an estate is there nevertheless")
		}
	}
	// A referral is reported, and not followed, wherever it leads.
	d.sourceFile(t, dir, "from: ldapi://{socket}/ou=ring,"+directoryBase+"\nlogin: {external: true}\n")
	if r := run(t, dir, nil, []string{"import", "hq.yaml", "-o", "ring"}); r.code != 3 || !strings.Contains(r.stderr, "the directory refers to ldap://") {
		t.Errorf("exit code %d\n%s%s", r.code, r.stdout, r.stderr)
	}
}

// The same circle with the stand-in, over SCIM.
func TestStandInCircle(t *testing.T) {
	t.Parallel() // most of it is waiting
	dir := standIn(t)
	data, err := os.ReadFile(filepath.Join(dir, "ready.json"))
	if err != nil {
		t.Fatal(err)
	}
	var ready struct{ SCIM string }
	if err := json.Unmarshal(data, &ready); err != nil {
		t.Fatal(err)
	}
	token, err := os.ReadFile(filepath.Join(dir, "standin.secret"))
	if err != nil {
		t.Fatal(err)
	}
	source := "yorvet-source: 1\nname: hq\nfrom: " + ready.SCIM + "\npage: 9\nlogin: {token: {file: standin.secret}}\n"
	if err := os.WriteFile(filepath.Join(dir, "hq.yaml"), []byte(source), 0o644); err != nil {
		t.Fatal(err)
	}
	ask := func(code int, args ...string) result {
		t.Helper()
		r := run(t, dir, nil, args)
		if r.code != code || strings.Contains(r.stdout+r.stderr, strings.TrimSpace(string(token))) {
			t.Fatalf("yorvet %q: exit code %d, want %d\n%s%s", args, r.code, code, r.stdout, r.stderr)
		}
		return r
	}
	ask(0, "import", "hq.yaml", "--domain", "kelpmere.example", "--domain", "kelpmereferries.example", "--domain", "kelpmere-cargo.example", "-o", "copy")
	ask(0, "compare", "hq.yaml", "copy")
	change := func(args ...string) {
		t.Helper()
		ask(0, append(append([]string{"--estate", "copy"}, args...), "--yes")...)
	}
	change("member", "add", "lost-property@kelpmere.example", "nora.teale@kelpmere.example")
	change("member", "remove", "lost-property@kelpmere.example", "piers.oake@kelpmere.example")
	change("group", "new", "storm@kelpmere.example", "--owner", "ines.maro@kelpmere.example", "--member", "nora.teale@kelpmere.example", "--managed-in", "hq")
	change("group", "rename", "galley@kelpmere.example", "kitchen@kelpmere.example")
	change("group", "remove", "charter@kelpmere.example")
	change("group", "set", "volunteers@kelpmere.example", "title=Helpers")
	change("member", "add", "volunteers@kelpmere.example", "storm@kelpmere.example")
	ask(1, "compare", "hq.yaml", "copy")
	bulk := ask(0, "--estate", "copy", "export", "--as", "scim", "--since", "hq.yaml").stdout
	request, err := http.NewRequest(http.MethodPost, ready.SCIM+"/Bulk", strings.NewReader(bulk))
	if err != nil {
		t.Fatal(err)
	}
	if response, err := http.DefaultClient.Do(request); err != nil || response.StatusCode != http.StatusUnauthorized {
		t.Errorf("without a token: %v %v", response, err)
	}
	request.Body = io.NopCloser(strings.NewReader(bulk))
	request.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if answer, _ := io.ReadAll(response.Body); response.StatusCode != http.StatusOK {
		t.Fatalf("%s\n%s\n%s", response.Status, answer, bulk)
	}
	ask(0, "compare", "hq.yaml", "copy")
	if r := ask(0, "import", "hq.yaml", "-o", "copy", "--yes"); !strings.Contains(r.stdout, "There is nothing to change.") {
		t.Errorf("importing again changes something:\n%s", r.stdout)
	}
}

// modify makes changes in a directory.
func (d *realDirectory) modify(t *testing.T, change string) {
	t.Helper()
	cmd := exec.Command("/usr/bin/ldapmodify", "-x", "-H", fmt.Sprintf("ldap://127.0.0.1:%d", d.port), "-D", "cn=admin,"+directoryBase, "-w", "tide")
	cmd.Stdin = strings.NewReader(strings.ReplaceAll(change, "{base}", directoryBase))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("ldapmodify: %v\n%s\n%s", err, out, change)
	}
}

// What happens in a directory is told, and none of it destroys what is in the estate.
func TestRealDirectoryChanges(t *testing.T) {
	d := slapd(t, directoryPeople(60), "")
	dir := t.TempDir()
	d.sourceFile(t, dir, simpleBind+"tls: none\n")
	want(t, dir, "import hq.yaml -o estate.yaml", 0, "60 people, 5 groups")
	want(t, dir, "--estate estate.yaml group set engine echo=false --yes", 0)
	want(t, dir, "compare hq.yaml estate.yaml", 0, "Nothing changes")
	kept := func(what string) {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(dir, "estate.yaml"))
		if err != nil || strings.Count(string(data), "managed-in: hq") != 5 || strings.Count(string(data), "name: Person") != 60 {
			t.Errorf("%s: groups or people went: %v\n%s", what, err, data)
		}
	}
	d.modify(t, "dn: uid=twin,ou=people,{base}\nchangetype: add\nobjectClass: inetOrgPerson\nuid: twin\ncn: Twin\nsn: Twin\nmail: p001@kelpmere.example\n")
	want(t, dir, "compare hq.yaml estate.yaml", 0, "Nothing changes", "a second entry has the address of p001@kelpmere.example")
	d.modify(t, "dn: uid=p059,ou=people,{base}\nchangetype: delete\n")
	want(t, dir, "compare hq.yaml estate.yaml", 1, "1 difference is open", "p059@kelpmere.example is in no source any more")
	var b strings.Builder
	for n := 41; n < 60; n++ {
		if n%3 != 0 && n != 59 {
			fmt.Fprintf(&b, "dn: uid=p%03d,ou=people,{base}\nchangetype: delete\n\n", n)
		}
	}
	d.modify(t, b.String())
	want(t, dir, "import hq.yaml -o estate.yaml --yes --prune", 2, "would remove 13 of 60 people; nothing is written")
	kept("people deleted")
	d.modify(t, "dn: cn=engine,ou=groups,{base}\nchangetype: modify\nreplace: mail\nmail: motor@kelpmere.example\n-\n")
	want(t, dir, "compare hq.yaml estate.yaml", 1, "motor@kelpmere.example comes and engine@kelpmere.example goes, with the same 2 members")
	want(t, dir, "--estate estate.yaml group rename engine motor@kelpmere.example --forget --yes", 0)
	want(t, dir, "compare hq.yaml estate.yaml", 1, "13 differences are open")
	d.sourceFile(t, dir, strings.Replace(simpleBind, directoryReader+"\"", "cn=half,"+directoryBase+"\"", 1)+"tls: none\n")
	want(t, dir, "compare hq.yaml estate.yaml", 1, "5 groups removed")
	want(t, dir, "import hq.yaml -o estate.yaml --yes", 2, "would remove 26 of 26 memberships; nothing is written")
	kept("groups hidden")
}
