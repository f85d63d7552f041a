package manual

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/schema"
	_ "stilltide/internal/verbs" // its verbs
)

// A text comes out as it is, whatever it begins with, and each sentence on a line of its own.
func TestText(t *testing.T) {
	p := &page{}
	p.text("One. Two?\n.csv means *.csv.\n\n    stilltide man \\n\n\n    .hidden\nEnd.\n\nMore.")
	require.Equal(t,
		"One.\nTwo?\n\\&.csv means *.csv.\n.Bd -literal -offset indent\nstilltide man \\en\n\n\\&.hidden\n.Ed\n"+
			".Pp\nEnd.\n.Pp\nMore.\n", p.String())
}

// Every key of the rules file is in stilltide.yaml(5), with its default, and mandoc has nothing
// to say of any page.
func TestEveryKeyHasItsPlace(t *testing.T) {
	folder := t.TempDir()
	names, err := Write(&cobra.Command{Use: "stilltide", Short: "Watch folders"}, folder, time.Unix(0, 0))
	require.NoError(t, err)
	require.Equal(t, []string{"man5/stilltide.yaml.5", "man1/stilltide.1"}, names)
	page, err := os.ReadFile(filepath.Join(folder, "man5/stilltide.yaml.5"))
	require.NoError(t, err)
	for _, s := range schema.Sections() {
		require.Contains(t, sections, s.Name)
		for _, k := range s.Keys {
			require.Contains(t, string(page), "\n.It Cm "+k.Name+"\n")
			require.NotEmpty(t, k.Default, k.Name)
		}
	}
	require.Contains(t, string(page), "\n.It Cm debounce\nquiet time since the last change before a file is "+
		"taken.\nDefault: 500ms.\n")
	require.Contains(t, string(page), "\n.It Cm unpack\n")
}
