package notation

import (
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/rule"
)

func TestCategories(t *testing.T) {
	f, diags := parse("version: 1\ncategories:\n  plans: {types: [\"image/vnd.dwg\", .DXF]}\n  pictures: {as: " +
		"Bilder}\n  notes: {types: [text/markdown]}\nrules: [{name: a, watch: in, category: [plans, pictures]}]\n")
	require.Empty(t, diags)
	for _, one := range []struct{ mediaType, name, own, builtIn string }{
		{"image/png", "a.png", "pictures", "pictures"},
		{"image/png", "a.pdf", "pictures", "pictures"}, // by content, not by name
		{"application/pdf", "a", "documents", "documents"},
		{"text/plain", "a.csv", "data", "data"}, // plain text says little
		{"text/plain", "a.go", "code", "code"},
		{"text/plain", "README", "documents", "documents"},
		{"application/zip", "a.docx", "documents", "documents"},
		{"application/zip", "a.odp", "presentations", "presentations"},
		{"application/zip", "a.epub", "books", "books"},
		{"application/zip", "a", "archives", "archives"},
		{"application/octet-stream", "a.mkv", "video", "video"},
		{"application/octet-stream", "a", "other", "other"},
		{"", "a.flac", "audio", "audio"},
		{"text/x-python", "a", "code", "code"},
		{"font/ttf", "a", "fonts", "fonts"},
		{"application/x-elf", "a", "programs", "programs"},
		{"application/vnd.ms-excel", "a.xls", "spreadsheets", "spreadsheets"},
		{"image/vnd.dwg", "a", "plans", "pictures"},
		{"text/plain", "a.dxf", "plans", "documents"},
		{"text/markdown", "a.md", "notes", "documents"},
	} {
		require.Equal(t, one.own, f.Sorts.Of(one.mediaType, one.name), "%s %s", one.mediaType, one.name)
		require.Equal(t, one.builtIn, (*rule.Categories)(nil).Of(one.mediaType, one.name), "%s %s", one.mediaType,
			one.name)
	}
	require.Equal(t, "Bilder", f.Sorts.Shown("pictures"))
	require.Equal(t, "audio", f.Sorts.Shown("audio"))
	for name := range rule.CategoryTypes {
		require.Contains(t, said("version: 1\nrules: [{name: a, watch: in, category: "+name+"x}]\n"),
			"did you mean "+name+"?")
	}
	require.Contains(t, said("version: 1\ncategories: {plans: {as: x}}\nrules: [{name: a, watch: in}]\n"),
		"it needs types:")
	require.Contains(t, said("version: 1\ncategories: {plans: {types: [dwg]}}\nrules: [{name: a, watch: in}]\n"),
		"neither a media type nor an ending")
}
