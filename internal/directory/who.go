package directory

// who is a person or a group, by the index among those of one directory, or of what
// several come to. The zero who is nobody.
type who uint32 // twice the index, past nobody; groups have odd ones

func person(index int) who { return who(2*index + 2) }

func group(index int) who { return who(2*index + 3) }

func (w who) isGroup() bool { return w&1 == 1 }

func (w who) isPerson() bool { return w != 0 && w&1 == 0 }

// index returns the index among people or groups, whichever it is.
func (w who) index() int { return int(w)/2 - 1 }
