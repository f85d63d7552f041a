// Package docs has the pages that the program itself shows.
package docs

import _ "embed"

// Recipes is recipes.md: ready-made rules by need.
//
//go:embed recipes.md
var Recipes string
