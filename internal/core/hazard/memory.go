package hazard

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// groupMemory is what has been worked out about the group at hand.
type groupMemory struct {
	group  estate.ID
	own    map[gateMessage][]*roaring.Bitmap // see deciding
	ruling *rulings                          // see rulings
	turns  []turn                            // see turnings
	looked bool                              // turns have been looked for
	direct []membership                      // see memberships
	list   []membership                      // the room of direct
	by     bypass                            // see turnings
}

// estateMemory is what has been worked out about the estate.
type estateMemory struct {
	classes  map[gateMessage][]*roaring.Bitmap // see deciding
	gates    map[gateMessage]letIn             // see judged
	ruled    map[string]*rulings               // by gate, see rulings
	keys     []string                          // by group, see gateKey
	gateUses map[string]int                    // by gateKey: how many groups have it
	crossing []resolve.Sender                  // see furtherAddresses
	outside  *roaring.Bitmap                   // people whose main address is outside
	doubts   map[string]string                 // by outside domain, see doubt
	ringed   map[estate.ID]bool                // groups whose ring has been looked at
	unknown  map[estate.ID][]estate.Unknown    // by group; estate.None: the edge
}

// forget drops what has been worked out, which findings would keep: they work out again what
// they need to be told.
func (p *Pass) forget() {
	p.groupMemory = groupMemory{group: estate.None, own: map[gateMessage][]*roaring.Bitmap{}}
	clear(p.classes)
	clear(p.gates)
	p.R.Forget()
}

// ForgetGroups drops what has been worked out about single groups: it is for anyone who looks at one
// after another.
func (p *Pass) ForgetGroups() {
	clear(p.classes)
	clear(p.gates)
	p.R.ForgetGroups()
}

// gateMessage is a gate and a message that it was asked about.
type gateMessage struct {
	gate    string
	message resolve.Message
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
