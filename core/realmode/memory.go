package realmode

import "sync"

const memory = 1<<20 + 1<<16 // real mode's reach with the highest segment, in bytes

// ram is the memory of a run. One is used again by the next run, cleared where it was
// written.
type ram struct {
	mem [memory]byte
	// shadow tells of every byte which byte of the disk it is a copy of, plus one;
	// 0 for one that was not loaded.
	shadow [memory]uint64
	dirty  [memory / page]bool
}

const page = 1 << 12

var rams = sync.Pool{New: func() any { return new(ram) }}

// put writes a byte, a copy of the disk's byte from-1 or of none.
func (m *ram) put(at int, b byte, from uint64) {
	m.mem[at], m.shadow[at], m.dirty[at/page] = b, from, true
}

// release clears the memory, for the next run.
func (m *ram) release() {
	for i, dirty := range m.dirty {
		if dirty {
			clear(m.mem[i*page : (i+1)*page])
			clear(m.shadow[i*page : (i+1)*page])
		}
	}
	clear(m.dirty[:])
	rams.Put(m)
}
