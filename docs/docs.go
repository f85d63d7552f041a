// Package docs has the pages that the program itself shows.
package docs

import _ "embed"

// Recipes is recipes.md: ready-made rules by need.
//
//go:embed recipes.md
var Recipes string

// LoopbackServer is the configuration of a server for a first try on one machine. It listens on
// port 4222, and TIDE_STORE in its environment names its folder.
//
//go:embed fleet/loopback.conf
var LoopbackServer string
