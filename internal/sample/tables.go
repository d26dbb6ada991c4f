package sample

import (
	"bufio"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
)

// Tables writes an estate of so many people, groups and memberships in tables below a folder,
// and returns their bytes. Its groups are alike: as many memberships in each, and one group
// nested in most. It is the same each time.
func Tables(dir string, people, groups, memberships int) (int64, error) {
	random := rand.New(rand.NewPCG(1, 2))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	person := func() string { return fmt.Sprintf("person.%06d@kelpmere.example", random.IntN(people)) }
	t := &tables{dir: dir}
	err := errors.Join(
		t.write("estate.yaml", mainFile),
		t.write("people.csv", func(w *bufio.Writer) {
			fmt.Fprintln(w, "address,name,mailbox,base,post,years")
			for i := range people {
				fmt.Fprintf(w, "person.%06d@kelpmere.example,Person Number %d,%s,%s,%s,%d\n", i, i,
					pick("", "", "", "open", "full"),
					pick("north-pier", "south-pier", "harbour"), pick("skipper", "deck", "engine", "desk"), random.IntN(40))
			}
		}),
		t.write("groups.csv", func(w *bufio.Writer) {
			fmt.Fprintln(w, "address,title,kind,copy,owners,gate")
			for i := range groups {
				fmt.Fprintf(w, "group-%05d@kelpmere.example,Group %d,%s,%s,%s,%s\n", i, i,
					pick("list", "list", "forum", "mailbox", "roster"),
					pick("", "every", "digest"), person(), pick("", "admit inside",
						"refuse unproven; hold newcomers(14d); admit members or owners", "admit anyone"))
			}
		}),
		t.write("memberships.csv", func(w *bufio.Writer) {
			fmt.Fprintln(w, "group,address,copy,since,invitations,paused")
			for i := range memberships {
				group := i * groups / memberships
				member := person()
				if group > 0 && i%(memberships/groups) == 0 {
					fmt.Fprintf(w, "group-%05d@kelpmere.example,group-%05d@kelpmere.example,,,,\n", group, random.IntN(group))
					continue
				}
				fmt.Fprintf(w, "group-%05d@kelpmere.example,%s,%s,20%02d-%02d-%02d,,\n", group, member,
					pick("", "every", "digest", "none"),
					10+random.IntN(16), 1+random.IntN(12), 1+random.IntN(28))
			}
		}),
	)
	return t.written, err
}

// tables writes the files of an estate below a folder.
type tables struct {
	dir     string
	written int64 // bytes, without the main file
}

// write writes a file of rows.
func (t *tables) write(name string, rows func(w *bufio.Writer)) error {
	f, err := os.Create(filepath.Join(t.dir, name))
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	rows(w)
	err = w.Flush()
	if info, failed := f.Stat(); failed == nil && name != "estate.yaml" {
		t.written += info.Size()
	}
	return errors.Join(err, f.Close())
}

// mainFile writes the YAML file that names the tables.
func mainFile(w *bufio.Writer) {
	fmt.Fprint(w, "yorvet: 1\ndomains: [kelpmere.example]\npeople: {table: people.csv}\ngroups: {table: groups.csv}\n"+
		"memberships: {table: memberships.csv}\n")
}
