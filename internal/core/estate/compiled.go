package estate

import (
	"encoding/binary"
	"errors"
	"iter"
	"strings"
	"sync/atomic"
	"unsafe"

	"yorvet.example/yorvet/internal/core/address"
)

// The sections of a compiled estate, each at a multiple of eight bytes. What is long and
// asked for piece by piece is laid out as in memory; the rest is coded.
const (
	sectionRules       = iota // ruleTexts
	sectionMisc               // what is small: settings, who is listed and nobody, domains, values of attributes
	sectionTexts              // flatTexts, of the addresses and names that follow
	sectionNames              // []flatAddress: the main addresses of groups
	sectionAlso               // the addresses apart from the main one of those who have some
	sectionGroups             // what groups have as well
	sectionGroupEnds          // []uint32: where each group ends in it
	sectionPeople             // []flatPerson
	sectionMemberRules        // of the groups that have some
	sectionChildren           // []flatNesting
	sectionParents            // []flatNesting
	sectionChildStart         // []uint32
	sectionParentStart        // []uint32
	sectionEntryStart         // []uint32
	sectionEntries            // []Entry
	sectionDomain             // []uint32
	sectionByAddress          // []ID
	sectionRank               // []uint32
	sectionDirectory          // the parts of the directory of addresses
	sectionImplied     = sectionDirectory + directoryParts
	sectionCells       = sectionImplied + directoryParts // []cell, all columns
	sections           = sectionCells + 1
)

// directoryParts is how many sections a directory takes.
const directoryParts = 4

// errDamaged is why bytes are no compiled estate.
var errDamaged = errors.New("this is no compiled estate, or a damaged one")

// groupNames are the addresses of a group.
type groupNames struct {
	main address.Address
	also []address.Address
}

// compiled is what an estate that was compiled reads when it is asked for.
type compiled struct {
	rules  *ruleTexts
	names  []groupNames
	groups []byte
	ends   []uint32 // of each group in groups
}

// nameGroups sets the main addresses of all groups, and reports whether they are such.
func (c *compiled) nameGroups(texts *flatTexts, names []flatAddress) bool {
	c.names = make([]groupNames, len(c.ends))
	if len(names) != len(c.names) {
		return false
	}
	for i, name := range names {
		var ok bool
		if c.names[i].main, ok = texts.getAddress(name); !ok {
			return false
		}
	}
	return true
}

// group reads a group. The bytes have been found whole when they were opened: what cannot be
// read was never written.
func (c *compiled) group(id ID) *Group {
	from := uint32(0)
	if id > 0 {
		from = c.ends[id-1]
	}
	read := &coder{data: c.groups[from:c.ends[id]], reading: true, rules: c.rules}
	g := &Group{Address: c.names[id].main, Also: c.names[id].also}
	read.group(g)
	if read.damaged {
		panic(errDamaged)
	}
	return g
}

// lazyGroups are groups that are read when they are asked for, each once. Several goroutines
// may ask.
type lazyGroups struct {
	from *compiled
	read []atomic.Pointer[Group]
}

func (l *lazyGroups) at(id ID) *Group {
	if g := l.read[id].Load(); g != nil {
		return g
	}
	l.read[id].CompareAndSwap(nil, l.from.group(id))
	return l.read[id].Load()
}

// with returns the groups with others in place of some.
func (l *lazyGroups) with(groups map[ID]Group) *lazyGroups {
	other := &lazyGroups{l.from, make([]atomic.Pointer[Group], len(l.read))}
	for i := range l.read {
		other.read[i].Store(l.read[i].Load())
	}
	for id, g := range groups {
		other.read[id].Store(&g)
	}
	return other
}

// Compiled returns an estate as bytes, in pieces that hold until the next one: FromCompiled
// reads them on the same kind of machine, by the same version of Yorvet. Estates of one load
// come out the same.
func (e *Estate) Compiled() iter.Seq[[]byte] {
	list := e.compile()
	return func(yield func([]byte) bool) {
		header := make([]byte, 0, 16*sections)
		at := uint64(cap(header))
		for _, section := range list {
			header = binary.LittleEndian.AppendUint64(header, at)
			header = binary.LittleEndian.AppendUint64(header, uint64(len(section)))
			at += uint64(len(section)+7) &^ 7
		}
		if !yield(header) {
			return
		}
		for _, section := range list {
			if !yield(section) || !yield(make([]byte, -len(section)&7)) {
				return
			}
		}
	}
}

// compile returns the sections of a compiled estate.
func (e *Estate) compile() [][]byte {
	parts := make([][]byte, sections)
	rules := &ruleTexts{numbers: map[ruleText]int{}}
	code := func(section int, write func(*coder)) {
		c := &coder{rules: rules}
		write(c)
		parts[section] = c.data
	}
	texts := &flatTexts{}
	names := make([]flatAddress, e.Groups())
	for id := range names {
		names[id] = texts.addAddress(e.Address(ID(id)))
	}
	parts[sectionNames], parts[sectionPeople] = bytesOf(names), bytesOf(texts.flatten(e))
	parts[sectionTexts] = texts.data
	code(sectionAlso, func(c *coder) { c.also(e) })
	ends := make([]uint32, e.Groups())
	code(sectionGroups, func(c *coder) {
		for id := range ID(e.Groups()) {
			c.group(e.Group(id))
			ends[id] = uint32(len(c.data))
		}
	})
	code(sectionMemberRules, func(c *coder) { c.memberRules(e) })
	parts[sectionChildren], parts[sectionParents] = bytesOf(flatNestings(e.children.all)),
		bytesOf(flatNestings(e.parents.all))
	code(sectionMisc, func(c *coder) { c.misc(e) })
	code(sectionRules, rules.code)
	parts[sectionGroupEnds] = bytesOf(ends)
	parts[sectionChildStart], parts[sectionParentStart] = bytesOf(e.children.start), bytesOf(e.parents.start)
	parts[sectionEntryStart], parts[sectionEntries] = bytesOf(e.entryStart), bytesOf(e.entries)
	parts[sectionDomain], parts[sectionByAddress], parts[sectionRank] =
		bytesOf(e.domain), bytesOf(e.byAddress), bytesOf(e.rank)
	parts[sectionCells] = bytesOf(e.attributes.all())
	e.index.ids.compile(parts[sectionDirectory:])
	e.index.implied.compile(parts[sectionImplied:])
	return parts
}

// misc codes what is small.
func (c *coder) misc(e *Estate) {
	c.settings(&e.settings)
	list(c, &e.nobody, c.listing)
	list(c, &e.unknown, c.unknown)
	keyed(c, e.index.canonical, func(means *string) { c.text(means) })
	keyed(c, e.index.numbers, func(n *uint32) { number(c, n) })
	list(c, &e.attributes.values, c.text)
	keyed(c, e.attributes.columns, func(col **column) {
		if c.reading {
			*col = &column{}
		}
		cells := len((*col).cells)
		c.text(&(*col).name)
		number(c, &cells)
		if c.reading { // from those of all columns, which stand in the same order
			from := min(cells, len(c.cells))
			(*col).cells, c.cells = c.cells[:from:from], c.cells[from:]
		}
	})
}

// also codes the addresses apart from the main one of the groups and people who have some.
func (c *coder) also(e *Estate) {
	type holder struct {
		id   ID
		also []address.Address
	}
	var holders []holder
	for id := ID(0); !c.reading && int(id) < e.count+len(e.people); id++ {
		if also := e.Also(id); also != nil {
			holders = append(holders, holder{id, also})
		}
	}
	list(c, &holders, func(h *holder) {
		number(c, &h.id)
		list(c, &h.also, c.address)
		switch {
		case !c.reading:
		case e.IsGroup(h.id):
			e.lazy.from.names[h.id].also = h.also
		case e.IsPerson(h.id):
			e.Person(h.id).Also = h.also
		}
	})
}

// memberRules codes the memberships that pick people, of the groups that have some.
func (c *coder) memberRules(e *Estate) {
	var groups []ID
	for id := range ID(e.count) {
		if !c.reading && e.rules[id] != nil {
			groups = append(groups, id)
		}
	}
	list(c, &groups, func(id *ID) {
		number(c, id)
		if !e.IsGroup(*id) {
			c.damaged = true
			return
		}
		list(c, &e.rules[*id], c.memberRule)
	})
}

// FromCompiled returns the estate that Compiled gave as bytes, which have to stay as they are
// and begin at a multiple of eight. Groups are read when they are asked for.
func FromCompiled(data []byte) (*Estate, error) {
	parts, ok := sectionsOf(data)
	if !ok {
		return nil, errDamaged
	}
	e := &Estate{
		index: &index{
			ids: compiledDirectory(parts[sectionDirectory:]), implied: compiledDirectory(parts[sectionImplied:]),
			canonical: map[string]string{}, numbers: map[string]uint32{},
		},
		attributes: attributes{columns: map[string]*column{}},
		entryStart: viewOf[uint32](parts[sectionEntryStart]),
		entries:    viewOf[Entry](parts[sectionEntries]),
		domain:     viewOf[uint32](parts[sectionDomain]),
		rank:       viewOf[uint32](parts[sectionRank]),
		byAddress:  viewOf[ID](parts[sectionByAddress]),
	}
	e.children.start, e.parents.start = viewOf[uint32](parts[sectionChildStart]), viewOf[uint32](parts[sectionParentStart])
	from := &compiled{rules: &ruleTexts{}, groups: parts[sectionGroups], ends: viewOf[uint32](parts[sectionGroupEnds])}
	e.count, e.lazy = len(from.ends), &lazyGroups{from, make([]atomic.Pointer[Group], len(from.ends))}
	e.rules = make([][]MemberRule, e.count)
	texts := &flatTexts{parts[sectionTexts]}
	raised := make(chan bool, 1) // most of the work, beside all else
	go func() { raised <- texts.raise(viewOf[flatPerson](parts[sectionPeople]), e) }()
	whole := from.nameGroups(texts, viewOf[flatAddress](parts[sectionNames]))
	code := func(section int, read func(*coder)) {
		c := &coder{data: parts[section], reading: true, rules: from.rules, cells: viewOf[cell](parts[sectionCells])}
		read(c)
		whole = whole && !c.damaged && c.at == len(c.data)
	}
	code(sectionRules, from.rules.code)
	code(sectionMisc, func(c *coder) { c.misc(e) })
	code(sectionMemberRules, func(c *coder) { c.memberRules(e) })
	e.children.all = raisedNestings(viewOf[flatNesting](parts[sectionChildren]))
	e.parents.all = raisedNestings(viewOf[flatNesting](parts[sectionParents]))
	e.index.subaddress = strings.ToLower(e.settings.Subaddress)
	whole = whole && e.isWhole(len(parts[sectionPeople])/int(unsafe.Sizeof(flatPerson{})))
	whole = <-raised && whole
	code(sectionAlso, func(c *coder) { c.also(e) })
	if !whole || !e.fits() || !e.arePeopleWhole() {
		return nil, errDamaged
	}
	return e, nil
}

// fits reports whether what an estate consists of has the lengths that belong together.
func (e *Estate) fits() bool {
	people := len(e.people)
	last := func(start []uint32, n int) bool { return len(start) == e.count+1 && start[0] == 0 && ascend(start, n) }
	return len(e.rules) == e.count && len(e.inside) == people && len(e.rank) == people && len(e.byAddress) == people &&
		len(e.domain) == e.count+people && last(e.entryStart, len(e.entries)) &&
		last(e.children.start, len(e.children.all)) && last(e.parents.start, len(e.parents.all))
}

// sectionsOf returns the sections of a compiled estate, and whether it has them all.
func sectionsOf(data []byte) ([][]byte, bool) {
	if len(data) < 16*sections || uintptr(unsafe.Pointer(&data[0]))%8 != 0 {
		return nil, false
	}
	list := make([][]byte, sections)
	for i := range list {
		at, size := binary.LittleEndian.Uint64(data[16*i:]), binary.LittleEndian.Uint64(data[16*i+8:])
		if at%8 != 0 || at > uint64(len(data)) || size > uint64(len(data))-at {
			return nil, false
		}
		list[i] = data[at : at+size : at+size]
	}
	return list, true
}

// flat is what is laid out as in memory: numbers alone, without gaps.
type flat interface {
	~uint32 | Entry | cell | flatAddress | flatPerson | flatNesting
}

// bytesOf returns values as bytes, in the same memory.
func bytesOf[T flat](values []T) []byte {
	var one T
	return unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(values))), len(values)*int(unsafe.Sizeof(one)))
}

// viewOf is the inverse of bytesOf. Bytes that are left over are left out.
func viewOf[T flat](data []byte) []T {
	var one T
	return unsafe.Slice((*T)(unsafe.Pointer(unsafe.SliceData(data))), len(data)/int(unsafe.Sizeof(one)))
}
