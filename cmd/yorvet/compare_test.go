package main

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/demo"
)

// gitIn returns a function that runs git in a repository, as somebody made up.
func gitIn(t *testing.T, repository string) func(args ...string) {
	return func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-c", "user.name=T", "-c", "user.email=t@kelp.example"}, args...)...)
		cmd.Dir = repository
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
}

// A revision of the surrounding repository is an estate like any other, with its
// tables, seen from the current folder.
func TestCompareRevisions(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("there is no git on this machine")
	}
	repository := t.TempDir()
	dir := filepath.Join(repository, "mail")
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	git := gitIn(t, repository)
	git("init", "-q")
	git("add", ".")
	git("commit", "-q", "-m", "first")
	groups := filepath.Join(dir, "estate", "groups.yaml")
	data, err := os.ReadFile(groups)
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(data), "      - piers.oake@kelpmere.example\n", "      - piers.oake@kelpmere.example\n      - gia.low@kelpmere.example\n", 1)
	if err := os.WriteFile(groups, []byte(changed), 0o644); err != nil {
		t.Fatal(err)
	}
	path := []string{"PATH=" + os.Getenv("PATH")}
	got := run(t, dir, path, []string{"compare", "HEAD:estate", "estate"})
	for _, want := range []string{"1 welcome mail is sent", "lost-property@kelpmere.example", "no recipient -> undeliverable", "gia.low@kelpmere.example", "unreachable-member"} {
		if got.code != 0 || !strings.Contains(got.stdout, want) {
			t.Errorf("there is no %q in\n%s%s", want, got.stdout, got.stderr)
		}
	}
	if same := run(t, dir, path, []string{"compare", "HEAD:estate/groups.yaml", "HEAD:estate"}); same.code != 2 || !strings.Contains(same.stderr, "HEAD:estate/groups.yaml") {
		t.Errorf("one file of a folder, which is no estate: %d\n%s", same.code, same.stderr)
	}
	for _, bad := range []string{"HEAD:nothing", "nothing:estate", "--output=x:estate", "HEAD:../../mail/estate", "HEAD:/etc"} {
		if r := run(t, dir, path, []string{"compare", "--", bad, "estate"}); r.code != 2 || r.stdout != "" || strings.Contains(r.stderr, os.TempDir()) {
			t.Errorf("%s: %d, %s%s", bad, r.code, r.stdout, r.stderr)
		}
	}
	if entries, _ := filepath.Glob(filepath.Join(dir, "x*")); len(entries) > 0 {
		t.Errorf("git wrote %v", entries)
	}
}

// What is written for other programs can be read by them.
func TestOtherFormats(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	var sarif struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name  string
					Rules []struct{ ID string }
				}
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	check := run(t, dir, nil, []string{"check", "--format", "sarif"})
	if err := json.Unmarshal([]byte(check.stdout), &sarif); err != nil || check.code != 1 || sarif.Version != "2.1.0" || len(sarif.Runs) != 1 {
		t.Fatalf("%v, exit code %d: %.300s%s", err, check.code, check.stdout, check.stderr)
	}
	log := sarif.Runs[0]
	for _, result := range log.Results {
		if log.Tool.Driver.Rules[result.RuleIndex].ID != result.RuleID || len(result.Locations) != 1 ||
			!strings.HasPrefix(result.Locations[0].PhysicalLocation.ArtifactLocation.URI, "estate/") || result.Locations[0].PhysicalLocation.Region.StartLine < 1 {
			t.Errorf("the result %+v does not fit its rule", result)
		}
	}
	if len(log.Results) < 22 {
		t.Errorf("only %d results", len(log.Results))
	}
	var junit struct {
		Suites []struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Cases    []struct {
				Name    string  `xml:"name,attr"`
				Failure *string `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	expect := run(t, dir, nil, []string{"expect", "kelpmere.expect", "--format", "junit"})
	if err := xml.Unmarshal([]byte(expect.stdout), &junit); err != nil || len(junit.Suites) != 1 {
		t.Fatalf("%v: %s%s", err, expect.stdout, expect.stderr)
	}
	suite, failed := junit.Suites[0], 0
	for _, c := range suite.Cases {
		if c.Failure != nil {
			failed++
		}
	}
	if suite.Tests != len(suite.Cases) || suite.Failures != failed || failed != 2 {
		t.Errorf("the suite is %+v", suite)
	}
}
