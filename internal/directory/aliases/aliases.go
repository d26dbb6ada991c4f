// Package aliases reads and writes the alias file that mail servers share:
//
//	name: address, name, :include:/path/of/a/list
//
// A line that begins with a blank continues the one before; # begins a comment.
// Addresses in pipes ("|program") and files (/var/mail/x) are reported, and never
// run or opened. Lists that are included are read only where that is allowed.
package aliases

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/paste"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
)

// Limits that no honest file meets.
const (
	mostLine    = 4 << 20
	mostInclude = 16 << 20
)

// Options say how an alias file is read.
type Options struct {
	Name   string // of the source
	File   string // for messages
	Domain string // what names without a domain are in
	// Include says that lists which the file includes are read, from Dir on.
	Include bool
	Dir     string
	Groups  bool // every alias becomes a group, also one that has a single target
}

// An entry is an alias and its targets.
type entry struct {
	line    int
	name    string
	targets []string
}

// Read reads an alias file. An alias of several targets, or of a group, becomes a
// group; one that leads to a single person becomes a further address of their own.
func Read(ctx context.Context, r io.Reader, options Options) (*directory.Directory, error) {
	p := &parser{ctx: ctx, options: options, d: &directory.Directory{Name: options.Name, File: options.File}}
	if err := p.scan(r); err != nil {
		return nil, err
	}
	p.build()
	return p.d, nil
}

type parser struct {
	ctx     context.Context // of the one reading that it is for
	options Options
	d       *directory.Directory
	entries []entry
}

// scan reads the lines of a file into entries.
func (p *parser) scan(r io.Reader) error {
	scanner := bufio.NewScanner(r)
	scanner.Buffer(nil, mostLine)
	number, began := 0, 0
	text := ""
	for scanner.Scan() {
		number++
		line := strings.TrimRight(strings.TrimPrefix(scanner.Text(), "\ufeff"), "\r")
		trimmed := strings.TrimSpace(line)
		switch {
		case trimmed == "" || trimmed[0] == '#':
			continue
		case line[0] == ' ' || line[0] == '\t':
			text += " " + trimmed
			if len(text) > mostLine {
				return fmt.Errorf("%s:%d:1: the alias is longer than %d MiB", p.options.File, began, mostLine>>20)
			}
		default:
			p.add(began, text)
			began, text = number, trimmed
		}
	}
	if err := scanner.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("the line is longer than %d MiB", mostLine>>20)
		}
		return fmt.Errorf("%s:%d:1: %w", p.options.File, number+1, err)
	}
	p.add(began, text)
	return nil
}

// add reads one alias.
func (p *parser) add(line int, text string) {
	if text == "" {
		return
	}
	name, targets, ok := cutName(text)
	if !ok || name == "" {
		p.d.Remark(line, true, fmt.Sprintf("expected an alias such as name: address, not %q", clip(text)))
		return
	}
	p.entries = append(p.entries, entry{line, name, split(targets)})
}

// cutName cuts an alias behind its name, which may be in quotes.
func cutName(text string) (name, rest string, ok bool) {
	if strings.HasPrefix(text, `"`) {
		end := strings.IndexByte(text[1:], '"')
		if end < 0 {
			return "", "", false
		}
		name, rest = text[1:1+end], strings.TrimSpace(text[2+end:])
		rest, ok = strings.CutPrefix(rest, ":")
		return name, rest, ok
	}
	name, rest, ok = strings.Cut(text, ":")
	return strings.TrimSpace(name), rest, ok
}

// split splits targets at commas outside quotes.
func split(text string) []string {
	var list []string
	from, quoted := 0, false
	for i := 0; i <= len(text); i++ {
		switch {
		case i < len(text) && text[i] == '\\':
			i++
		case i < len(text) && text[i] == '"':
			quoted = !quoted
		case i >= len(text) || text[i] == ',' && !quoted:
			if one := strings.TrimSpace(text[from:min(i, len(text))]); one != "" {
				list = append(list, one)
			}
			from = i + 1
		}
	}
	if from < len(text) && quoted {
		list = append(list, strings.TrimSpace(text[from:]))
	}
	return list
}

func clip(s string) string {
	const most = 40
	if len(s) > most {
		return s[:most] + "..."
	}
	return s
}

// full returns a name as an address.
func (p *parser) full(name string) string {
	name = strings.TrimPrefix(name, `\`)
	if !strings.HasPrefix(name, `"`) && !strings.Contains(name, "@") && strings.ContainsAny(name, " ,:;<>()[]") {
		name = `"` + name + `"`
	}
	if strings.Contains(name, "@") || p.options.Domain == "" {
		return name
	}
	return name + "@" + p.options.Domain
}

// resolve returns the addresses that the targets of an alias mean.
func (p *parser) resolve(e entry) []string {
	var list []string
	for _, target := range e.targets {
		bare := strings.Trim(target, `"`)
		switch {
		case strings.HasPrefix(bare, "|"):
			p.d.Remark(
				e.line,
				true,
				fmt.Sprintf("%s hands its mail to a program (%s), which is left out and never run", e.name, clip(bare)),
			)
			continue
		case instruction.MatchString(bare):
			p.d.Remark(e.line, true,
				fmt.Sprintf("%s says %s to the mail server, which is no address and is left out", e.name, clip(bare)))
			continue
		case strings.HasPrefix(bare, `\`):
			p.d.Remark(e.line, false,
				fmt.Sprintf("%s goes to the mailbox %s itself, whatever its own alias says", e.name, clip(bare[1:])))
		case strings.HasPrefix(bare, "/"):
			p.d.Remark(
				e.line,
				true,
				fmt.Sprintf("%s writes its mail to the file %s, which is left out", e.name, clip(bare)),
			)
			continue
		case strings.HasPrefix(strings.ToLower(bare), ":include:"):
			list = append(list, p.include(e, strings.TrimSpace(bare[len(":include:"):]), 1)...)
			continue
		}
		a, err := address.Parse(p.full(target))
		if err != nil {
			p.d.Remark(e.line, true, fmt.Sprintf("a target of %s: %v", e.name, err))
			continue
		}
		list = append(list, a.String())
	}
	return list
}

// instruction is a target that tells the mail server to do something else than deliver.
var instruction = regexp.MustCompile(`^:(fail|defer|blackhole|unknown|discard|error|reject)\b.*`)

// mostIncludes is how deep lists may include others.
const mostIncludes = 10

// include reads a list of addresses that an alias includes.
func (p *parser) include(e entry, path string, depth int) []string {
	if depth > mostIncludes {
		p.d.Remark(e.line, true, fmt.Sprintf("%s includes lists within lists more than %d deep", e.name, mostIncludes))
		return nil
	}
	if !p.options.Include {
		p.d.Remark(
			e.line,
			true,
			fmt.Sprintf(
				"%s includes the list %s; files that a source names are not read, unless --allow-files says so",
				e.name,
				path,
			),
		)
		return nil
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(p.options.Dir, path)
	}
	data, err := localfile.Read(p.ctx, path, mostInclude)
	if err != nil {
		p.d.Remark(e.line, true, fmt.Sprintf("%s: %v", e.name, err))
		return nil
	}
	var list []string
	var text strings.Builder
	for line := range strings.Lines(string(data)) {
		switch trimmed := strings.TrimSpace(line); {
		case strings.HasPrefix(trimmed, "#"):
			text.WriteString("\n")
		case strings.HasPrefix(strings.ToLower(strings.Trim(trimmed, `"`)), ":include:"):
			inner := strings.Trim(trimmed, `"`)[len(":include:"):]
			list = append(list, p.include(e, strings.TrimSpace(inner), depth+1)...)
			text.WriteString("\n")
		case trimmed != "" && !strings.ContainsAny(trimmed, "@ ,\t|/:"):
			text.WriteString(p.full(trimmed) + "\n")
		default:
			text.WriteString(line)
		}
	}
	people, remarks := paste.Parse(text.String())
	for _, one := range people {
		list = append(list, one.Address.String())
	}
	for _, r := range remarks {
		p.d.Remark(e.line, true, fmt.Sprintf("%s:%d: %s: %s", path, r.Line, r.Text, r.Why))
	}
	return list
}

// parse returns the address of an alias, if it has one.
func (p *parser) parse(e entry) (address.Address, bool) {
	a, err := address.Parse(p.full(e.name))
	if err != nil {
		text := fmt.Sprintf("the alias %s: %v", e.name, err)
		if p.options.Domain == "" && !strings.Contains(e.name, "@") {
			text = fmt.Sprintf("the alias %s has no domain and is left out; name one with --domain", e.name)
		}
		p.d.Remark(e.line, true, text)
	}
	return a, err == nil
}

// build makes people and groups of the entries.
func (p *parser) build() {
	named := map[string]int{} // groups that may have an owner, by address without case
	for i, e := range p.entries {
		named[strings.ToLower(p.full(e.name))] = i
	}
	owners := map[int][]string{} // by entry
	also := map[string]int{}     // people with further addresses, by address without case
	groups := map[int]int{}      // by entry: its group
	var ofGroups []entry         // further addresses of groups
	for i, e := range p.entries {
		a, ok := p.parse(e)
		if !ok {
			continue
		}
		targets := p.resolve(e)
		if of, ok := strings.CutPrefix(strings.ToLower(a.String()), "owner-"); ok {
			// Those who get the bounces of a list answer for it.
			if list, ok := named[of]; ok {
				owners[list] = targets // and it takes mail, as any other
			}
		}
		if to, ok := p.further(e, a, targets, named); ok {
			if to == strings.ToLower(a.String()) {
				continue // a name that stands for itself
			}
			at, ok := also[to]
			if !ok {
				at = len(p.d.People)
				also[to] = at
				p.d.People = append(p.d.People, directory.Person{Line: e.line, Address: targets[0], Hinted: true})
			}
			p.d.People[at].Also = append(p.d.People[at].Also, a.String())
			continue
		}
		if to, ok := p.furtherOfGroup(e, targets, named); ok {
			ofGroups = append(ofGroups, entry{e.line, a.String(), []string{to}})
			continue
		}
		g := directory.Group{Line: e.line, Address: a.String(), Members: []estatefile.Member{}}
		for _, to := range targets {
			g.Members = append(g.Members, estatefile.Member{Address: to})
		}
		groups[i] = len(p.d.Groups)
		p.d.Groups = append(p.d.Groups, g)
	}
	for _, e := range ofGroups {
		if at, ok := groups[named[e.targets[0]]]; ok {
			p.d.Groups[at].Also = append(p.d.Groups[at].Also, e.name)
		}
	}
	for i, list := range owners {
		if at, ok := groups[i]; ok {
			p.d.Groups[at].Owners = list
		}
	}
}

// furtherOfGroup returns the group, without case, of which an alias is a further
// address: it leads to that alone, perhaps by way of others.
func (p *parser) furtherOfGroup(e entry, targets []string, named map[string]int) (string, bool) {
	if len(targets) != 1 || len(e.targets) != 1 || p.options.Groups {
		return "", false
	}
	to := strings.ToLower(targets[0])
	for range 10 {
		at, ok := named[to]
		if !ok || at < 0 {
			return "", false
		}
		other := p.entries[at]
		if len(other.targets) != 1 {
			return to, len(other.targets) > 1
		}
		next := strings.ToLower(p.full(other.targets[0]))
		if next == to || next == strings.ToLower(p.full(e.name)) {
			return "", false
		}
		to = next
	}
	return "", false
}

// further returns the person, without case, that an alias is a further
// address: it leads to them alone, in the same domain.
func (p *parser) further(e entry, a address.Address, targets []string, named map[string]int) (string, bool) {
	if len(targets) != 1 || len(e.targets) != 1 || p.options.Groups {
		return "", false
	}
	to := strings.ToLower(targets[0])
	at, isAlias := named[to]
	self := isAlias && len(p.entries[at].targets) == 1 && strings.EqualFold(p.full(p.entries[at].targets[0]), to)
	return to, (!isAlias || self) && strings.HasSuffix(to, "@"+strings.ToLower(a.Domain()))
}
