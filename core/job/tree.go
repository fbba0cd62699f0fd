package job

import (
	"errors"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// node is a value of the file, with its place.
type node struct {
	kind    kind
	plain   bool // a scalar without quotes: true and 5 are more than texts
	text    string
	items   []*node
	entries []entry
	at      Place
}

// entry is a key of a table with its value.
type entry struct {
	key   string
	at    Place
	value *node
}

type kind uint8

const (
	nothing kind = iota
	scalar
	list
	table
	broken // what is wrong about it is noted
)

func (k kind) String() string {
	return [...]string{"nothing", "a text", "a list", "keys with values", "broken"}[k]
}

// tree reads the text of a file; nil where it is no YAML, which is noted.
func (s *source) tree(text []byte) *node {
	if at, deep := tooDeep(text); deep {
		s.mistake(at, "", "values in values, more than %d deep", deepest)
		return nil
	}
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		at, why := Place{1, 1}, err.Error()
		if e, ok := errors.AsType[yaml.Error](err); ok {
			why = e.GetMessage()
			if t := e.GetToken(); t != nil {
				at = Place{t.Position.Line, t.Position.Column}
			}
		}
		s.mistake(at, "", "it is not YAML: %s", why)
		return nil
	}
	b := &builder{source: s, anchors: map[string]*node{}}
	var root *node
	for _, doc := range file.Docs {
		switch {
		case doc.Body == nil:
		case root == nil:
			root = b.build(doc.Body)
		default:
			s.mistake(b.build(doc.Body).at, "", "a job file is one document, and here a second one starts")
		}
	}
	if root == nil {
		root = &node{at: Place{1, 1}}
	}
	return root
}

// deepest is how deep values may lie in each other: the parser takes a goroutine's stack, and
// memory that grows with the square, for each level.
const deepest = 64

// tooDeep finds the place where values lie too deep in each other: in brackets, or by the
// columns in which keys and dashes stand.
func tooDeep(text []byte) (at Place, deep bool) {
	brackets := 0
	var columns []int
	tokens := lexer.Tokenize(string(text))
	for i, t := range tokens {
		starts := t
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			brackets++
		case token.SequenceEndType, token.MappingEndType:
			brackets--
		case token.MappingValueType:
			starts = tokens[max(0, i-1)] // the key
			fallthrough
		case token.SequenceEntryType:
			if brackets > 0 {
				continue
			}
			column := starts.Position.Column
			for len(columns) > 0 && columns[len(columns)-1] >= column {
				columns = columns[:len(columns)-1]
			}
			columns = append(columns, column)
		}
		if brackets+len(columns) > deepest {
			return Place{t.Position.Line, t.Position.Column}, true
		}
	}
	return Place{}, false
}

// builder makes nodes. An alias stands for the node of its anchor.
type builder struct {
	*source
	anchors map[string]*node
}

func placeOf(n ast.Node) Place {
	p := n.GetToken().Position
	return Place{p.Line, p.Column}
}

func (b *builder) build(n ast.Node) *node {
	if n == nil {
		return &node{}
	}
	made := &node{at: placeOf(n)}
	switch n := n.(type) {
	case *ast.NullNode:
	case *ast.MappingNode:
		made.kind = table
		if len(n.Values) > 0 && !n.IsFlowStyle {
			made.at = placeOf(n.Values[0].Key)
		}
		b.fill(made, n)
	case *ast.SequenceNode:
		made.kind = list
		for _, item := range n.Values {
			made.items = append(made.items, b.build(item))
		}
	case *ast.AnchorNode:
		made = b.build(n.Value)
		b.anchors[n.Name.GetToken().Value] = made
	case *ast.AliasNode:
		name := n.Value.GetToken().Value
		known := b.anchors[name]
		if known == nil {
			b.mistake(made.at, "a value that starts with * is written in quotes", "nothing before it has the name &%s", name)
			made.kind = broken
			return made
		}
		*made = *known
		made.at = placeOf(n)
	case *ast.TagNode:
		return b.build(n.Value)
	case *ast.LiteralNode:
		made.kind, made.text = scalar, n.Value.Value
	case *ast.StringNode:
		made.kind, made.text = scalar, n.Value
		made.plain = n.Token.Type != token.SingleQuoteType && n.Token.Type != token.DoubleQuoteType
	default:
		made.kind, made.text, made.plain = scalar, n.GetToken().Value, true
	}
	return made
}

// fill builds the entries of a table. Those of a merge (<<) come after its own, which
// are stronger.
func (b *builder) fill(made *node, n *ast.MappingNode) {
	var merged []entry
	for _, v := range n.Values {
		value := b.build(v.Value)
		if _, merge := v.Key.(*ast.MergeKeyNode); merge {
			of := []*node{value}
			if value.kind == list { // the first is the strongest
				of = value.items
			}
			for _, one := range of {
				if one.kind != table {
					b.mistake(placeOf(v.Key), "", "<< takes the keys of what aliases such as *usual stand for")
				}
				merged = append(merged, one.entries...)
			}
			continue
		}
		if value.kind == nothing {
			value.at = placeOf(v.Key)
		}
		made.entries = append(made.entries, entry{v.Key.GetToken().Value, placeOf(v.Key), value})
	}
	for _, e := range merged {
		if made.get(e.key) == nil {
			made.entries = append(made.entries, e)
		}
	}
}

// get is the value of a key; nil: it is not there.
func (n *node) get(key string) *node {
	for _, e := range n.entries {
		if e.key == key {
			return e.value
		}
	}
	return nil
}
