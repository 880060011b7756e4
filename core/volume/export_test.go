package volume

// What the tests of package volume_test look at.
var (
	ReadAPFS    = readAPFS
	ReadBlessed = readBlessed
	Unpack      = unpack
)

// The ways in which Btrfs packs.
const (
	PackedByZlib = btrfsZlib
	PackedByLZO  = btrfsLZO
	PackedByZstd = btrfsZstd
)

const MaxAppleVolumes = maxAppleVolumes

// EveryOption are the options of mounts that some kind has of its own.
var EveryOption = everyOwn
