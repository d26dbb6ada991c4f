package estate

import (
	"bytes"
	"hash/maphash"
	"slices"
	"strings"
)

// directory maps keys of addresses to IDs. It is a hash table with open
// addressing that keeps the keys' bytes together, since a large estate looks up
// millions of memberships, and most of the time goes into waiting for memory that is
// not in a cache of the processor.
type directory struct {
	seed  maphash.Seed
	slots []uint64 // upper half of the hash, then 1 + the entry; 0: free. A power of two
	ends  []uint32 // by entry: where its key ends in keys
	ids   []ID     // by entry
	keys  []byte   // none is empty

	// order has the entries sorted by key, in place of slots, where the directory is that of
	// a compiled estate.
	order []uint32
}

func newDirectory() *directory {
	return &directory{seed: maphash.MakeSeed(), slots: make([]uint64, 64)}
}

// key returns the key of an entry.
func (d *directory) key(entry uint32) []byte {
	from := uint32(0)
	if entry > 0 {
		from = d.ends[entry-1]
	}
	return d.keys[from:d.ends[entry]]
}

func slotOf(hash uint64, entry int) uint64 { return hash&^(1<<32-1) | uint64(entry+1) }

// get returns the ID of a key, and whether it is there.
func (d *directory) get(key string) (ID, bool) {
	if d.order != nil {
		return d.search(key)
	}
	return d.probe(maphash.String(d.seed, key), key)
}

// search is get by the order of the keys.
func (d *directory) search(key string) (ID, bool) {
	from, to := 0, len(d.order)
	for from < to {
		middle := (from + to) / 2
		if string(d.key(d.order[middle])) < key {
			from = middle + 1
		} else {
			to = middle
		}
	}
	if from == len(d.order) || string(d.key(d.order[from])) != key {
		return None, false
	}
	return d.ids[d.order[from]], true
}

func (d *directory) probe(hash uint64, key string) (ID, bool) {
	mask := uint64(len(d.slots) - 1)
	for at := hash & mask; d.slots[at] != 0; at = (at + 1) & mask {
		if slot := d.slots[at]; slot>>32 == hash>>32 {
			if entry := uint32(slot) - 1; string(d.key(entry)) == key {
				return d.ids[entry], true
			}
		}
	}
	return None, false
}

// getAll sets each of ids to that of the key with the same index, or to None.
// Before it compares anything it reads all slots, and then the last bytes of all keys
// that they lead to: reads that do not wait for one another are fetched at once.
func (d *directory) getAll(keys []string, ids []ID) {
	const most = 256
	var hashes, slots [most]uint64
	var lasts [most]byte
	for len(keys) > 0 {
		n := min(len(keys), most)
		mask := uint64(len(d.slots) - 1)
		for i, key := range keys[:n] {
			hashes[i] = maphash.String(d.seed, key)
		}
		for i, hash := range hashes[:n] {
			slots[i] = d.slots[hash&mask]
		}
		for i, slot := range slots[:n] {
			if slot != 0 {
				lasts[i] = d.keys[d.ends[uint32(slot)-1]-1]
			}
		}
		for i, key := range keys[:n] {
			slot := slots[i]
			if slot != 0 && slot>>32 == hashes[i]>>32 && strings.HasSuffix(key, string(lasts[i:i+1])) &&
				string(d.key(uint32(slot)-1)) == key {
				ids[i] = d.ids[uint32(slot)-1]
			} else {
				ids[i], _ = d.probe(hashes[i], key)
			}
		}
		keys, ids = keys[n:], ids[n:]
	}
}

// put enters a key that is not there yet.
func (d *directory) put(key string, id ID) {
	if 2*len(d.ids) >= len(d.slots) {
		d.grow()
	}
	d.keys = append(d.keys, key...)
	d.ends = append(d.ends, uint32(len(d.keys)))
	d.ids = append(d.ids, id)
	d.place(maphash.String(d.seed, key), len(d.ids)-1)
}

// place puts an entry into the first free slot for its hash.
func (d *directory) place(hash uint64, entry int) {
	mask := uint64(len(d.slots) - 1)
	at := hash & mask
	for d.slots[at] != 0 {
		at = (at + 1) & mask
	}
	d.slots[at] = slotOf(hash, entry)
}

func (d *directory) grow() {
	d.slots = make([]uint64, 2*len(d.slots))
	for entry := range d.ids {
		d.place(maphash.Bytes(d.seed, d.key(uint32(entry))), entry)
	}
}

// compile sets the sections of a compiled directory.
func (d *directory) compile(list [][]byte) {
	order := d.order
	if order == nil {
		order = make([]uint32, len(d.ids))
		for i := range order {
			order[i] = uint32(i)
		}
		slices.SortFunc(order, func(a, b uint32) int { return bytes.Compare(d.key(a), d.key(b)) })
	}
	list[0], list[1], list[2], list[3] = bytesOf(d.ids), bytesOf(d.ends), d.keys, bytesOf(order)
}

// compiledDirectory returns the directory of those sections. Nothing can be put into it.
func compiledDirectory(list [][]byte) *directory {
	return &directory{
		ids: viewOf[ID](list[0]), ends: viewOf[uint32](list[1]), keys: list[2], order: viewOf[uint32](list[3]),
	}
}
