//go:build linux && race

package engine

// simDefault is smaller under the race detector, which is twenty times slower;
// the simulation has no second goroutine anyway.
const simDefault = 25
