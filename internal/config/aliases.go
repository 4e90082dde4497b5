package config

import "github.com/goccy/go-yaml/ast"

// anchors are what stands under the anchors of a document so far.
type anchors map[string]ast.Node

// resolved is a node with what its aliases stand for in their places, and what is merged (<<) among the entries
// of its mappings: an entry of a mapping's own goes before one that is merged, and of those the first.
func (r *setupReader) resolved(n ast.Node, known anchors) ast.Node {
	switch n := n.(type) {
	case *ast.AnchorNode:
		value := r.resolved(n.Value, known)
		known[n.Name.GetToken().Value] = value
		return value
	case *ast.AliasNode:
		name := n.Value.GetToken().Value
		if value, there := known[name]; there {
			return value
		}
		r.at(n, "no anchor &%s stands before *%s", name, name)
		return ast.Null(n.GetToken())
	case *ast.SequenceNode:
		for i := range n.Values {
			n.Values[i] = r.resolved(n.Values[i], known)
		}
	case *ast.MappingValueNode:
		if isMerge(n) {
			return ast.Mapping(n.GetToken(), false, r.merged(n, known)...)
		}
		n.Value = r.resolved(n.Value, known)
	case *ast.MappingNode:
		var own, merged []*ast.MappingValueNode
		for _, v := range n.Values {
			if isMerge(v) {
				merged = append(merged, r.merged(v, known)...)
				continue
			}
			v.Value = r.resolved(v.Value, known)
			own = append(own, v)
		}
		if len(merged) == 0 {
			break
		}
		return ast.Mapping(n.GetToken(), n.IsFlowStyle, withOthers(own, merged)...)
	}
	return n
}

func isMerge(v *ast.MappingValueNode) bool { return v.Key.Type() == ast.MergeKeyType }

// merged are the entries that a mapping takes from others.
func (r *setupReader) merged(v *ast.MappingValueNode, known anchors) (all []*ast.MappingValueNode) {
	value := r.resolved(v.Value, known)
	from := []ast.Node{value}
	if list, is := value.(*ast.SequenceNode); is {
		from = list.Values
	}
	for _, n := range from {
		switch m := n.(type) {
		case *ast.MappingNode:
			all = withOthers(all, m.Values)
		case *ast.MappingValueNode:
			all = withOthers(all, []*ast.MappingValueNode{m})
		case *ast.NullNode: // of an alias that was told
		default:
			r.at(v.Key, "<< takes in mappings, by their aliases")
		}
	}
	return all
}

// withOthers are entries with those others whose names are not among them.
func withOthers(all, others []*ast.MappingValueNode) []*ast.MappingValueNode {
	names := map[string]bool{}
	for _, v := range all {
		names[v.Key.GetToken().Value] = true
	}
	for _, v := range others {
		if name := v.Key.GetToken().Value; !names[name] {
			names[name] = true
			all = append(all, v)
		}
	}
	return all
}
