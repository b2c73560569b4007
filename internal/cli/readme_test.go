package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The first command of the README does what stands below it.
func TestReadme(t *testing.T) {
	t.Chdir("../..")
	text, err := os.ReadFile("README.md")
	require.NoError(t, err)
	_, text2, found := strings.Cut(string(text), "<!-- first -->\n")
	require.True(t, found)
	part, _, found := strings.Cut(text2, "<!-- /first -->")
	require.True(t, found)
	blocks := strings.Split(part, "```\n")
	require.Len(t, blocks, 5)
	result := filepath.Join(t.TempDir(), "result")
	args := strings.Fields(strings.ReplaceAll(strings.TrimPrefix(blocks[1], "bin/twinning "), "--out result", "--out "+result))
	var out, talk bytes.Buffer
	require.Equal(t, SomeToDo, Main(args, strings.NewReader(""), &out, &talk), talk.String())
	require.Equal(t, blocks[3], out.String())
	contested, err := os.ReadFile(filepath.Join(result, "contested.csv"))
	require.NoError(t, err)
	require.Contains(t, string(contested), `"L0003","u3",`)
}
