//go:build !race

package machine

const raceDetector = false
