//go:build !race

package bounds

const raceDetector = false
