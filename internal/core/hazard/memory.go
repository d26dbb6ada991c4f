package hazard

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// groupMemory is what has been worked out about the group at hand.
type groupMemory struct {
	group  estate.ID
	ruling *rulings     // see rulings
	turns  []turn       // see turnings
	looked bool         // turns have been looked for
	direct []membership // see memberships
	list   []membership // the room of direct
}

// estateMemory is what has been worked out about the estate.
type estateMemory struct {
	ruled    map[string]*rulings            // by gate, see rulings
	crossing []resolve.Sender               // see furtherAddresses
	outside  *roaring.Bitmap                // people whose main address is outside
	doubts   map[string]string              // by outside domain, see doubt
	ringed   map[estate.ID]bool             // groups whose ring has been looked at
	unknown  map[estate.ID][]estate.Unknown // by group; estate.None: the edge
}

// forget drops what has been worked out, which findings would keep: they work out again what
// they need to be told.
func (p *Pass) forget() {
	p.groupMemory = groupMemory{group: estate.None}
	p.R = p.R.Fork()
}

// membership is what one person wants as a direct member of a group.
type membership struct {
	person estate.ID
	wish   resolve.Wish
	place  estate.Place
}

// memberships returns the direct memberships of the group at hand: one for each
// person.
func (p *Pass) memberships() []membership {
	if p.direct == nil {
		p.direct = p.list[:0]
		p.R.EachMembership(p.group, func(person estate.ID, wish resolve.Wish, place estate.Place) {
			p.direct = append(p.direct, membership{person, wish, place})
		})
		p.list = p.direct
	}
	return p.direct
}

func wantsCopies(copy estate.Copy) bool { return copy == estate.CopyEvery || copy == estate.CopyDigest }

// best returns what somebody has of a group's mail, and false if they have no outcome.
func (p *Pass) best(id, person estate.ID) (resolve.Outcome, bool) {
	if outcome, has, known := p.survey.Best(id, person); known {
		return outcome, has
	}
	return p.R.Flow(id, resolve.Message{}).Best(person)
}
