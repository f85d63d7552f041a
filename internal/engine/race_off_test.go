//go:build linux && !race

package engine

const simDefault = 200
