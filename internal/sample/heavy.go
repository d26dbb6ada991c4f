package sample

import (
	"bufio"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strings"
)

// A Size is that of an estate in tables.
type Size struct {
	People, Groups, Memberships int
}

// The sizes of heavy-tailed estates: each has the shape of a real organisation's, with ten
// times as much of everything as the one before.
var (
	Small  = Size{1_000, 200, 20_000}
	Medium = Size{10_000, 2_000, 200_000}
	Large  = Size{100_000, 20_000, 2_000_000}
)

// Times returns a size that is so many times as large.
func (s Size) Times(factor float64) Size {
	times := func(n int) int { return int(float64(n) * factor) }
	return Size{times(s.People), times(s.Groups), times(s.Memberships)}
}

// Heavy writes an estate of a size in tables below a folder, the same each time for the
// same seed, and returns their bytes. Its groups are as unlike as those of real
// organisations: five hold a third to two thirds of the people, half hold no more than two
// dozen; three in each hundred memberships are of nested groups, eight deep at most, with a
// few rings; gates ask for people inside, members, and members of other groups.
func Heavy(dir string, size Size, seed uint64) (int64, error) {
	return (&heavy{random: rand.New(rand.NewPCG(seed, 2)), size: size}).write(dir)
}

// Outside writes what Heavy does, with 2 % of the people at ten domains outside, and with more
// copies that are not every: 12 % digest, 8 % none, 7 % replies.
func Outside(dir string, size Size, seed uint64) (int64, error) {
	return (&heavy{random: rand.New(rand.NewPCG(seed, 2)), size: size, outside: true}).write(dir)
}

// Gated writes what Outside does, with gates as organisations have that moderate: lists of senders, groups that hold
// what is not from members or from anybody inside, and groups that send nobody their own message back.
func Gated(dir string, size Size, seed uint64) (int64, error) {
	return (&heavy{random: rand.New(rand.NewPCG(seed, 2)), size: size, outside: true, gated: true}).write(dir)
}

func (h *heavy) write(dir string) (int64, error) {
	h.plan()
	t := &tables{dir: dir}
	err := errors.Join(
		t.write("estate.yaml", mainFile),
		t.write("people.csv", h.people), t.write("groups.csv", h.groups), t.write("memberships.csv", h.memberships))
	return t.written, err
}

// heavy makes a heavy-tailed estate.
type heavy struct {
	random  *rand.Rand
	size    Size
	members []int   // by group: how many people
	nested  [][]int // by group
	outside bool    // some people are
	gated   bool    // gates hold, and list senders
}

func (h *heavy) pick(words ...string) string { return words[h.random.IntN(len(words))] }

func (h *heavy) chance(percent int) bool { return h.random.IntN(100) < percent }

// layers is how deep groups are nested.
const layers = 8

// plan decides how many members each group has, and which groups are nested in it.
func (h *heavy) plan() {
	groups := h.size.Groups
	h.members, h.nested = make([]int, groups), make([][]int, groups)
	left, most := h.size.Memberships, h.size.People*3/10
	for i := range groups {
		if i < 5 {
			h.members[i] = h.size.People*3/10 + h.random.IntN(h.size.People*3/10)
		} else {
			h.members[i] = min(1+int(24*math.Exp(1.6*h.random.NormFloat64())), most)
		}
		left -= h.members[i]
	}
	nestings := 0
	for nestings < 3*groups {
		// One group in eight has others in it, and is in one of the layers; all others are in
		// the lowest. Most of what is nested is in the lowest, too.
		outer := h.random.IntN(groups/layers) * layers
		layer := outer / layers % (layers - 1)
		for range min(1+int(4/math.Pow(h.random.Float64()+1e-9, 0.7)), 109-len(h.nested[outer])) {
			inner := h.random.IntN(groups/layers)*layers + 1 + h.random.IntN(layers-1)
			if below := inner / layers * layers; h.chance(10) && below/layers%(layers-1) == layer+1 {
				inner = below
			}
			h.nested[outer] = append(h.nested[outer], inner)
			nestings++
		}
	}
	for i := range 3 { // rings
		a, b := groups/layers*i/4*layers, groups/layers*i/4*layers+layers
		h.nested[a], h.nested[b] = append(h.nested[a], b), append(h.nested[b], a)
	}
	for left -= nestings; left > 0; {
		// What is missing goes to the larger half, so that the median stays.
		if i := 5 + h.random.IntN(groups-5); h.members[i] > 24 && h.members[i] < most {
			h.members[i]++
			left--
		}
	}
}

func (h *heavy) person(i int) string {
	if h.outside && i%50 == 7 {
		return fmt.Sprintf("person.%06d@out-%d.example", i, i/50%10)
	}
	return fmt.Sprintf("person.%06d@kelpmere.example", i)
}

func (h *heavy) anyone() string { return h.person(h.random.IntN(h.size.People)) }

func (h *heavy) group(i int) string { return fmt.Sprintf("group-%05d@kelpmere.example", i) }

func (h *heavy) anyGroup() string { return h.group(h.random.IntN(h.size.Groups)) }

func (h *heavy) people(w *bufio.Writer) {
	fmt.Fprintln(w, "address,name,mailbox,base,post,years")
	for i := range h.size.People {
		mailbox := ""
		if h.chance(1) {
			mailbox = h.pick("full", "closed", "none")
		}
		fmt.Fprintf(w, "%s,Person Number %d,%s,%s,%s,%d\n", h.person(i), i, mailbox,
			h.pick("north-pier", "south-pier", "harbour"), h.pick("skipper", "deck", "engine", "desk"), h.random.IntN(40))
	}
}

func (h *heavy) groups(w *bufio.Writer) {
	fmt.Fprintln(w, "address,title,kind,copy,owners,gate")
	for i := range h.size.Groups {
		gate := "admit inside"
		switch n := h.random.IntN(10); {
		case n < 3:
			gate = "admit members"
		case n < 5:
			gate = "admit in " + h.anyGroup()
		case n < 6:
			gate = "refuse in " + h.anyGroup() + "; admit inside"
		}
		if h.gated {
			gate = h.moderated(gate)
		}
		kind := h.pick("list", "list", "list", "list", "list", "forum", "forum", "mailbox", "roster")
		fmt.Fprintf(w, "%s,Group %d,%s,,%s,%s\n", h.group(i), i, kind, h.anyone(), gate)
	}
}

// moderated returns another gate for some groups: one that holds, or a list of senders.
func (h *heavy) moderated(gate string) string {
	switch n := h.random.IntN(10); {
	case n < 2:
		return "admit members; hold inside"
	case n < 4:
		senders := h.anyone()
		for range 1 + h.random.IntN(12) {
			senders += " or " + h.anyone()
		}
		return "refuse suspect; admit " + senders + "; hold inside"
	case n < 5:
		return "admit in " + h.anyGroup() + "; hold inside"
	}
	return gate
}

func (h *heavy) memberships(w *bufio.Writer) {
	fmt.Fprintln(w, "group,address,copy,since,invitations,paused")
	in := make([]int, h.size.People) // the last group that each is in, from 1
	for g, members := range h.members {
		// People of one group stand together in the organisation more often than not.
		from, near := h.random.IntN(h.size.People), max(2*members, 50)
		for n := 0; n < members; {
			i := h.random.IntN(h.size.People)
			if h.chance(70) {
				i = (from + h.random.IntN(near)) % h.size.People
			}
			if in[i] == g+1 {
				continue
			}
			in[i] = g + 1
			n++
			copy := ""
			switch n := h.random.IntN(100); {
			case h.outside && n < 27:
				copy = h.pick("digest", "digest", "digest", "digest", "none", "none", "none", "replies", "replies")
			case n < 10:
				copy = h.pick("digest", "digest", "none", "replies")
			}
			since := fmt.Sprintf("20%02d-%02d-%02d", 10+h.random.IntN(16), 1+h.random.IntN(12), 1+h.random.IntN(28))
			fmt.Fprintf(w, "%s,%s,%s,%s,,\n", h.group(g), h.person(i), copy, since)
		}
		for _, inner := range h.nested[g] {
			fmt.Fprintf(w, "%s,%s,,,,\n", h.group(g), h.group(inner))
		}
	}
}

// Shuffle writes the rows of a table in another order.
func Shuffle(path string, seed uint64) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	lines := strings.SplitAfter(string(data), "\n")
	rows := lines[1 : len(lines)-1]
	rand.New(rand.NewPCG(seed, 3)).Shuffle(len(rows), func(i, j int) { rows[i], rows[j] = rows[j], rows[i] })
	return os.WriteFile(path, []byte(strings.Join(lines, "")), 0o644)
}
