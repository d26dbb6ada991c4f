package selector

// Without returns an expression as it is where atoms that is reports are never true. A nil
// expression stands for one that is never true itself.
func Without(x Expr, is func(*Atom) bool) Expr {
	switch x := x.(type) {
	case Or:
		var kept Or
		for _, term := range x {
			switch one := Without(term, is); {
			case one == nil:
			case isAnyone(one):
				return one
			default:
				kept = append(kept, one)
			}
		}
		return single(kept, func() Expr { return kept })
	case And:
		var kept And
		for _, factor := range x {
			switch one := Without(factor, is); {
			case one == nil:
				return nil
			case isAnyone(one):
			default:
				kept = append(kept, one)
			}
		}
		if len(kept) == 0 {
			return &Atom{Kind: Anyone, Text: "anyone"}
		}
		return single(kept, func() Expr { return kept })
	case Not:
		one := Without(x.X, is)
		switch {
		case one == nil:
			return &Atom{Kind: Anyone, Text: "anyone"}
		case isAnyone(one):
			return nil
		}
		return Not{one}
	case *Atom:
		if is(x) || x.Kind == Nobody {
			return nil
		}
	}
	return x
}

// single returns the only part of a list, nil for none, and else the whole.
func single(parts []Expr, whole func() Expr) Expr {
	switch len(parts) {
	case 0:
		return nil
	case 1:
		return parts[0]
	}
	return whole()
}

func isAnyone(x Expr) bool {
	atom, ok := x.(*Atom)
	return ok && atom.Kind == Anyone
}
