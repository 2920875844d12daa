package main

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"
)

// rooms looks at a package as a whole: how many methods its types have, what they embed or keep, which names are nearly
// the same, and which files need one another.
func (c *count) rooms(p *packages.Package) {
	methods := map[string]int{}
	first := map[string]string{} // by lower-case name: its first spelling
	for _, f := range p.Syntax {
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				of := receiver(d)
				if of != "" {
					if methods[of]++; methods[of] == mostMethods+1 {
						c.add(crowded, d.Pos(), of)
					}
				}
				c.twin(first, of, d.Name)
			case *ast.GenDecl:
				for _, s := range d.Specs {
					switch s := s.(type) {
					case *ast.TypeSpec:
						c.twin(first, "", s.Name)
						c.holds(p, s)
					case *ast.ValueSpec:
						for _, name := range s.Names {
							c.twin(first, "", name)
						}
					}
				}
			}
		}
	}
	for _, cycle := range fileCycles(p) {
		if len(cycle) > largestCycle {
			c.found[cycles] = append(c.found[cycles], fmt.Sprintf("%s: %d files: %s", p.Name, len(cycle),
				strings.Join(cycle, " ")))
		}
	}
}

// receiver names the type that a method is of; empty for a function.
func receiver(d *ast.FuncDecl) string {
	if d.Recv == nil {
		return ""
	}
	t := d.Recv.List[0].Type
	if star, ok := t.(*ast.StarExpr); ok {
		t = star.X
	}
	name, ok := t.(*ast.Ident)
	if !ok {
		return ""
	}
	return name.Name
}

// twin notes a name that differs from another of the same type, or of the package, by case only.
func (c *count) twin(first map[string]string, of string, name *ast.Ident) {
	small := of + "." + strings.ToLower(name.Name)
	switch was, known := first[small]; {
	case !known:
		first[small] = name.Name
	case was != name.Name:
		c.add(twins, name.Pos(), was+" and "+name.Name)
	}
}

// holds looks at the fields of a struct.
func (c *count) holds(p *packages.Package, s *ast.TypeSpec) {
	st, ok := s.Type.(*ast.StructType)
	if !ok {
		return
	}
	for _, f := range st.Fields.List {
		t := p.TypesInfo.TypeOf(f.Type)
		if t.String() == "context.Context" {
			c.add(contexts, f.Pos(), s.Name.Name)
		}
		if pt, ok := t.(*types.Pointer); ok {
			t = pt.Elem()
		}
		named, ok := t.(*types.Named)
		if !ok || len(f.Names) > 0 || named.Obj().Pkg() == nil {
			continue
		}
		from := named.Obj().Pkg().Path()
		if strings.Contains(from, "/internal/") && !strings.Contains(from, "/internal/core/") && from != p.PkgPath {
			c.add(embedded, f.Pos(), s.Name.Name+" embeds "+named.Obj().Name())
		}
	}
}

// fileCycles lists the files of a package that need one another, as Tarjan finds strongly connected components (1972).
func fileCycles(p *packages.Package) (out [][]string) {
	file := func(at token.Pos) string { return filepath.Base(p.Fset.Position(at).Filename) }
	needs := map[string]map[string]bool{}
	for id, o := range p.TypesInfo.Uses {
		if o.Pkg() != p.Types || !o.Pos().IsValid() {
			continue
		}
		from, to := file(id.Pos()), file(o.Pos())
		if needs[from] == nil {
			needs[from] = map[string]bool{}
		}
		needs[from][to] = true
	}
	index, low, on := map[string]int{}, map[string]int{}, map[string]bool{}
	var stack []string
	var visit func(f string)
	visit = func(f string) {
		index[f], low[f] = len(index)+1, len(index)+1
		stack, on[f] = append(stack, f), true
		for to := range needs[f] {
			if index[to] == 0 {
				visit(to)
				low[f] = min(low[f], low[to])
			} else if on[to] {
				low[f] = min(low[f], index[to])
			}
		}
		if low[f] == index[f] {
			i := slices.Index(stack, f)
			cycle := slices.Sorted(slices.Values(stack[i:]))
			for _, one := range cycle {
				on[one] = false
			}
			stack, out = stack[:i], append(out, cycle)
		}
	}
	for f := range needs {
		if index[f] == 0 {
			visit(f)
		}
	}
	return out
}
