package volume

// What the tests of package volume_test look at.
var (
	ReadAPFS    = readAPFS
	ReadBlessed = readBlessed
)

const MaxAppleVolumes = maxAppleVolumes
