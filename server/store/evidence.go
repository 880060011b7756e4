package store

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"

	"latchkey/capture"
	"latchkey/capture/listing"
	"latchkey/core/disk"
)

// chunkSize is the unit in which evidence is kept, in bytes.
const chunkSize = 256 << 10

// Evidence is what is held of a disk. It never changes once stored.
type Evidence struct {
	ID         uint64
	CaseID     uint64
	Role       string
	Filename   string
	Capacity   int64            // bytes
	SectorSize int              // bytes
	Extents    []capture.Extent `gorm:"serializer:json"`
	ReceivedAt time.Time
	// Variables are the boot variables of the machine that a capture was taken
	// on, by file name; nil when it told none.
	Variables map[string][]byte `gorm:"serializer:json"`
	// Counts are figures that a capture counted over bytes which it leaves out.
	Counts      []disk.Count `gorm:"serializer:json"`
	WithdrawnAt *time.Time
}

// TableName keeps the table's name in the singular, as the word has no plural.
func (Evidence) TableName() string { return "evidence" }

type chunk struct {
	EvidenceID uint64 `gorm:"primaryKey"`
	Number     uint32 `gorm:"primaryKey"`
	Data       []byte
}

func (chunk) TableName() string { return "evidence_chunks" }

// Held returns the bytes held.
func (e *Evidence) Held() int64 {
	var n int64
	for _, x := range e.Extents {
		n += x.Length
	}
	return n
}

var (
	encoder, _     = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	textDecoder, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(2*listing.MaxBytes))
	decoder, _     = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4<<20))
)

// AddEvidence stores what r holds of a disk and puts it in force for the drive.
// Earlier evidence is kept, no longer in force. The case must still have the
// given version. What the evidence tells of the drive (its model and bus) is
// taken over; empty strings tell nothing.
func (s *Store) AddEvidence(ctx context.Context, e *Evidence, version uint32, r io.ReaderAt, model, bus string) error {
	return explain(s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := claim(tx, e.CaseID, version); err != nil {
			return err
		}
		return (&Captured{e, r, model, bus}).add(tx)
	}))
}

// Captured is evidence with the bytes that it holds and what it tells of the drive.
type Captured struct {
	*Evidence
	Sectors    io.ReaderAt
	Model, Bus string
}

func (e *Captured) add(tx *gorm.DB) error {
	e.ReceivedAt = time.Now().UTC()
	if err := tx.Create(e.Evidence).Error; err != nil {
		return err
	}
	if err := writeChunks(tx, e.Evidence, e.Sectors); err != nil {
		return err
	}
	told := map[string]any{"evidence_id": e.ID}
	if e.Model != "" {
		told["model"] = e.Model
	}
	if e.Bus != "" {
		told["bus"] = e.Bus
	}
	res := tx.Model(&Drive{}).Where("case_id = ? AND role = ?", e.CaseID, e.Role).Updates(told)
	if res.Error == nil && res.RowsAffected == 0 {
		return ErrNotFound
	}
	return res.Error
}

// pager is implemented by sparse sources that know which bytes they hold.
type pager interface {
	Pages(func(off int64, page []byte) error) error
}

// writeChunks stores the chunks that are not all zeros.
func writeChunks(tx *gorm.DB, e *Evidence, r io.ReaderAt) error {
	numbers, err := chunkNumbers(e, r)
	if err != nil {
		return err
	}
	buf := make([]byte, chunkSize)
	for _, n := range numbers {
		clear(buf)
		if err := readHeld(e, r, int64(n)*chunkSize, buf); err != nil {
			return err
		}
		if bytes.Count(buf, []byte{0}) == len(buf) {
			continue
		}
		if err := tx.Create(&chunk{e.ID, n, encoder.EncodeAll(buf, nil)}).Error; err != nil {
			return err
		}
	}
	return nil
}

// chunkNumbers lists the chunks that may hold something.
func chunkNumbers(e *Evidence, r io.ReaderAt) ([]uint32, error) {
	var numbers []uint32
	add := func(off int64) {
		if n := uint32(off / chunkSize); len(numbers) == 0 || numbers[len(numbers)-1] != n {
			numbers = append(numbers, n)
		}
	}
	if p, ok := r.(pager); ok {
		err := p.Pages(func(off int64, _ []byte) error { add(off); return nil })
		return numbers, err
	}
	for _, x := range e.Extents {
		for off := x.Offset - x.Offset%chunkSize; off < x.Offset+x.Length; off += chunkSize {
			add(off)
		}
	}
	return numbers, nil
}

// readHeld fills p with what the extents hold of it.
func readHeld(e *Evidence, r io.ReaderAt, off int64, p []byte) error {
	for _, x := range e.Extents {
		from, to := max(off, x.Offset), min(off+int64(len(p)), x.Offset+x.Length)
		if from >= to {
			continue
		}
		part := p[from-off : to-off]
		if n, err := r.ReadAt(part, from); n < len(part) {
			return fmt.Errorf("reading the file at byte %d: %w", from, err)
		}
	}
	return nil
}

type chunkKey struct {
	evidence uint64
	number   uint32
}

// chunkCache keeps recently read chunks; evidence never changes, so they are
// never stale. 128 chunks are 32 MiB.
type chunkCache = lru.Cache[chunkKey, []byte]

func newChunkCache() *chunkCache {
	c, _ := lru.New[chunkKey, []byte](128)
	return c
}

// Open returns a reader over the evidence; bytes that are not held read as
// *disk.NotCaptured.
func (s *Store) Open(ctx context.Context, e *Evidence) (*capture.Sparse, error) {
	return capture.NewSparse(&chunkReader{ctx: ctx, s: s, e: e}, e.Extents)
}

type chunkReader struct {
	ctx context.Context
	s   *Store
	e   *Evidence
}

func (r *chunkReader) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		data, err := r.chunk(uint32(at / chunkSize))
		if err != nil {
			return done, err
		}
		in := int(at % chunkSize)
		n := min(len(p)-done, chunkSize-in)
		if data == nil {
			clear(p[done : done+n])
		} else {
			copy(p[done:done+n], data[in:])
		}
		done += n
	}
	return done, nil
}

// chunk returns a chunk's bytes; nil is a chunk of zeros.
func (r *chunkReader) chunk(number uint32) ([]byte, error) {
	key := chunkKey{r.e.ID, number}
	if data, ok := r.s.chunks.Get(key); ok {
		return data, nil
	}
	var rows []chunk
	err := r.s.db.WithContext(r.ctx).Where("evidence_id = ? AND number = ?", r.e.ID, number).Limit(1).Find(&rows).Error
	if err != nil {
		return nil, explain(err)
	}
	var data []byte
	if len(rows) == 1 {
		if data, err = decoder.DecodeAll(rows[0].Data, nil); err != nil || len(data) != chunkSize {
			return nil, fmt.Errorf("evidence %d, chunk %d is damaged in the database: %w", r.e.ID, number, err)
		}
	}
	r.s.chunks.Add(key, data)
	return data, nil
}
