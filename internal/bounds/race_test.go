//go:build race

package bounds

// The race detector makes everything some ten times slower, and nothing here is
// concurrent.
const raceDetector = true
