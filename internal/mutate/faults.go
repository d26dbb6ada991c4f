package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"slices"
	"strconv"
)

// A fault is a small change of a file.
type fault struct {
	file         string
	source       []byte
	line, column int
	from, to     int // bytes of source that are replaced
	with         string
	says         string
}

func (f fault) String() string { return fmt.Sprintf("%s:%d:%d: %s", f.file, f.line, f.column, f.says) }

// apply returns the file with the fault.
func (f *fault) apply() []byte {
	return slices.Concat(f.source[:f.from], []byte(f.with), f.source[f.to:])
}

// otherwise are the operators that are put for others.
var otherwise = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS,
	token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

// faults returns the faults that can be put into a file.
func faults(file string, source []byte) ([]fault, error) {
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, file, source, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	c := &collector{set: set, file: file, source: source}
	ast.Inspect(tree, c.visit)
	return c.list, nil
}

type collector struct {
	set    *token.FileSet
	file   string
	source []byte
	list   []fault
}

func (c *collector) add(from, to token.Pos, with, says string) {
	at, end := c.set.Position(from), c.set.Position(to)
	c.list = append(c.list, fault{c.file, c.source, at.Line, at.Column, at.Offset, end.Offset, with, says})
}

// text returns the source of a node, cut short.
func (c *collector) text(n ast.Node) string {
	const most = 50
	text := c.source[c.set.Position(n.Pos()).Offset:c.set.Position(n.End()).Offset]
	if len(text) > most {
		return strconv.Quote(string(text[:most])) + "..."
	}
	return strconv.Quote(string(text))
}

func (c *collector) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.GenDecl:
		return n.Tok == token.VAR // types and constants have no course to change
	case *ast.CallExpr:
		return !makesRoom(n)
	case *ast.BinaryExpr:
		if other, ok := otherwise[n.Op]; ok && !isText(n) {
			c.add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), other.String(),
				n.Op.String()+" becomes "+other.String()+" in "+c.text(n))
		}
	case *ast.IfStmt:
		from, to := c.set.Position(n.Cond.Pos()).Offset, c.set.Position(n.Cond.End()).Offset
		c.add(n.Cond.Pos(), n.Cond.End(), "!("+string(c.source[from:to])+")", "the opposite of "+c.text(n.Cond))
	case *ast.BlockStmt:
		for _, s := range n.List {
			c.drop(s)
		}
	case *ast.CaseClause:
		for _, s := range n.Body {
			c.drop(s)
		}
	case *ast.BasicLit:
		if v, err := strconv.Atoi(n.Value); n.Kind == token.INT && err == nil {
			c.add(n.Pos(), n.End(), strconv.Itoa(v+1), n.Value+" becomes "+strconv.Itoa(v+1))
		}
	case *ast.Ident:
		if other, ok := map[string]string{"true": "false", "false": "true"}[n.Name]; ok {
			c.add(n.Pos(), n.End(), other, n.Name+" becomes "+other)
		}
	}
	return true
}

// makesRoom reports whether a call makes an empty list, and differs by no more than room if
// its numbers do, or gives room back.
func makesRoom(call *ast.CallExpr) bool {
	switch f := call.Fun.(type) {
	case *ast.Ident:
		if f.Name != "make" || len(call.Args) != 3 {
			return false
		}
		length, ok := call.Args[1].(*ast.BasicLit)
		return ok && length.Value == "0"
	case *ast.SelectorExpr:
		return f.Sel.Name == "Clip" || f.Sel.Name == "Grow"
	}
	return false
}

// drop adds the fault that a statement is left out, if it is one that can be.
func (c *collector) drop(s ast.Stmt) {
	switch s := s.(type) {
	case *ast.ExprStmt:
		if call, ok := s.X.(*ast.CallExpr); ok && makesRoom(call) {
			return
		}
	case *ast.IncDecStmt, *ast.SendStmt:
	case *ast.BranchStmt:
		if s.Tok != token.CONTINUE && s.Tok != token.BREAK {
			return
		}
	case *ast.AssignStmt:
		if call, ok := s.Rhs[0].(*ast.CallExpr); s.Tok == token.DEFINE || ok && makesRoom(call) {
			return
		}
	default:
		return
	}
	c.add(s.Pos(), s.End(), "", "without "+c.text(s))
}

// isText reports whether + joins texts in an expression, as far as that shows.
func isText(n *ast.BinaryExpr) bool {
	if n.Op != token.ADD {
		return false
	}
	for _, side := range []ast.Expr{n.X, n.Y} {
		switch side := side.(type) {
		case *ast.BasicLit:
			if side.Kind == token.STRING {
				return true
			}
		case *ast.BinaryExpr:
			if isText(side) {
				return true
			}
		}
	}
	return false
}
