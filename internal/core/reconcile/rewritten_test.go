package reconcile_test

import (
	"math/rand/v2"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"

	"twinning/internal/core/reconcile"
)

// rewritten is a document that means the same: mappings and lists in lines or in one, their keys
// in another order, texts quoted or not, comments anywhere.
func rewritten(t require.TestingT, source []byte, rng *rand.Rand) []byte {
	var doc yaml.Node
	require.NoError(t, yaml.Unmarshal(source, &doc))
	var alter func(n *yaml.Node, flow bool)
	alter = func(n *yaml.Node, flow bool) {
		n.HeadComment, n.LineComment, n.FootComment = "", "", ""
		switch n.Kind {
		case yaml.MappingNode, yaml.SequenceNode:
			n.Style = 0
			if flow = flow || rng.IntN(3) == 0; flow {
				n.Style = yaml.FlowStyle
			}
			if n.Kind == yaml.MappingNode {
				rng.Shuffle(len(n.Content)/2, func(i, j int) {
					for k := range 2 {
						n.Content[2*i+k], n.Content[2*j+k] = n.Content[2*j+k], n.Content[2*i+k]
					}
				})
			}
		case yaml.ScalarNode:
			if n.Tag == "!!str" && !flow {
				n.Style = []yaml.Style{0, yaml.DoubleQuotedStyle, yaml.SingleQuotedStyle, yaml.FoldedStyle}[rng.IntN(4)]
			} else if n.Tag == "!!str" {
				n.Style = []yaml.Style{0, yaml.DoubleQuotedStyle, yaml.SingleQuotedStyle}[rng.IntN(3)]
			}
		}
		for i, c := range n.Content {
			alter(c, flow)
			if n.Kind == yaml.MappingNode && i%2 == 0 {
				c.Style = 0 // keys are words
				if !flow && rng.IntN(4) == 0 {
					c.HeadComment = "# what follows:\n# " + c.Value
				}
			}
		}
	}
	alter(&doc, rng.IntN(5) == 0)
	out, err := yaml.Marshal(&doc)
	require.NoError(t, err)
	return out
}

var lines = regexp.MustCompile(`lines? \d+`)

// A rule is where it stands in the document, not on which line: a charter that is written
// otherwise is the same charter.
func TestCharterWrittenOtherwise(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		l := anyLane(rt)
		if rapid.Bool().Draw(rt, "names move") {
			l = movingLane(rt)
		}
		in := l.input(rt, nil)
		want := tell(in, reconcile.Run(in))
		seed := rapid.Uint64().Draw(rt, "written otherwise")
		l.written = func(source []byte) []byte { return rewritten(rt, source, rand.New(rand.NewPCG(seed, 1))) }
		again := l.input(rt, nil)
		got := tell(again, reconcile.Run(again))
		for _, list := range [][]string{want, got} {
			for i := range list {
				list[i] = lines.ReplaceAllString(list[i], "line N")
			}
		}
		require.Equal(rt, want, got)
	})
}
