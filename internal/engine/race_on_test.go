//go:build linux && race

package engine

// simDefault is smaller under the race detector, which is five times slower;
// the simulation has no second goroutine anyway.
const simDefault = 80
