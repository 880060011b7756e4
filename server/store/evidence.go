package store

import (
	"bytes"
	"context"
	"errors"
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
	ID          uint64
	CaseID      uint64
	Role        string
	Filename    string
	Capacity    int64  // bytes
	SectorSize  int    // bytes
	Held        int64  // bytes held in all
	Described   bool   // it has boot variables
	Bus         string // on which the drive hung when it was read; "" where nothing tells
	Serial      string // the drive's serial number; "" where nothing tells
	ReceivedAt  time.Time
	TakenAt     time.Time // when the bytes were read, as a capture tells, or else came in
	WithdrawnAt *time.Time
}

// TableName keeps the table's name in the singular, as the word has no plural.
func (Evidence) TableName() string { return "evidence" }

// Inside is what a piece of evidence says of itself; it can be long, and is read only
// where it is needed.
type Inside struct {
	Extents []capture.Extent `gorm:"serializer:json"`
	// Unreadable are the sectors that the drive would not give.
	Unreadable []capture.Extent `gorm:"serializer:json"`
	// Variables are the boot variables of the machine that a capture was taken
	// on, by file name; nil when it told none.
	Variables map[string][]byte `gorm:"serializer:json"`
	// Counts are figures that a capture counted over bytes which it leaves out.
	Counts []disk.Count `gorm:"serializer:json"`
}

// newEvidence is a piece as it is stored.
type newEvidence struct {
	Evidence
	Inside
	Packed bool
}

type chunk struct {
	EvidenceID uint64 `gorm:"primaryKey"`
	Number     uint32 `gorm:"primaryKey"`
	Data       []byte
}

func (chunk) TableName() string { return "evidence_chunks" }

var (
	encoder, _     = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(chunkSize))
	textDecoder, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(2*listing.MaxBytes))
	decoder, _     = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4<<20))
)

// Piece is evidence that comes in: with its bytes, and with what it tells of the
// drive. An empty model tells nothing.
type Piece struct {
	Evidence
	Inside
	Sectors io.ReaderAt
	Model   string
}

// AddEvidence stores a piece for its drive. The one that was taken last is in force; the
// others are kept. The case must still have the given version.
func (s *Store) AddEvidence(ctx context.Context, p *Piece, by Entry, version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, p.CaseID, version, by); err != nil {
			return err
		}
		return p.add(tx)
	})
}

func (p *Piece) add(tx *gorm.DB) error {
	p.Serial = clip(p.Serial, 120)
	p.ID, p.Held, p.ReceivedAt, p.Filename, p.Described = 0, total(p.Extents), time.Now().UTC(),
		clip(p.Filename, 255), len(p.Variables) > 0
	if p.TakenAt.IsZero() || p.TakenAt.After(p.ReceivedAt) {
		p.TakenAt = p.ReceivedAt
	}
	row := newEvidence{p.Evidence, p.Inside, true}
	if err := tx.Create(&row).Error; err != nil {
		return err
	}
	p.ID = row.ID
	err := packed(p.Sectors, p.Extents, func(number uint32,
		data []byte) error {
		return tx.Create(&chunk{p.ID, number, data}).Error
	})
	if err != nil {
		return err
	}
	told := map[string]any{}
	if p.Model != "" {
		told["model"] = clip(p.Model, 200)
	}
	return putInForce(tx, p.CaseID, p.Role, told)
}

// putInForce puts the piece of a drive in force that was taken last and is not withdrawn.
func putInForce(tx *gorm.DB, caseID uint64, role string, told map[string]any) error {
	var newest []Evidence
	if err := tx.Where("case_id = ? AND role = ? AND withdrawn_at IS NULL", caseID, role).
		Order("taken_at DESC, id DESC").Limit(1).Find(&newest).Error; err != nil {
		return err
	}
	told["evidence_id"] = nil
	if len(newest) > 0 {
		told["evidence_id"] = newest[0].ID
	}
	drive := tx.Model(&Drive{}).Where("case_id = ? AND role = ?", caseID, role).Session(&gorm.Session{})
	if res := drive.Updates(told); res.Error != nil || res.RowsAffected > 0 {
		return res.Error
	}
	var n int64 // none is changed where all is as it was, too
	if err := drive.Count(&n).Error; err != nil || n > 0 {
		return err
	}
	return ErrNotFound
}

func total(held []capture.Extent) int64 {
	var n int64
	for _, x := range held {
		n += x.Length
	}
	return n
}

// packed hands over what is held, one extent after the other, in compressed chunks;
// those of zeros are left out.
func packed(r io.ReaderAt, held []capture.Extent, put func(number uint32, data []byte) error) error {
	parts := make([]io.Reader, 0, len(held))
	for _, x := range held {
		parts = append(parts, io.NewSectionReader(r, x.Offset, x.Length))
	}
	want := total(held)
	all, buf := io.MultiReader(parts...), make([]byte, chunkSize)
	for number := uint32(0); ; number++ {
		n, err := io.ReadFull(all, buf)
		want -= int64(n)
		if n > 0 && bytes.Count(buf[:n], []byte{0}) < n {
			if err := put(number, encoder.EncodeAll(buf[:n], nil)); err != nil {
				return err
			}
		}
		switch {
		case want > 0 && err != nil && (errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)):
			return fmt.Errorf("reading what is held: %d bytes are missing: %w", want, io.ErrUnexpectedEOF)
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return nil
		case err != nil:
			return fmt.Errorf("reading what is held: %w", err)
		}
	}
}

type chunkKey struct {
	evidence uint64
	number   uint32
}

// chunkCache keeps recently read chunks; evidence never changes, so they are
// never stale. 32 chunks are 8 MiB.
type chunkCache = lru.Cache[chunkKey, []byte]

func newChunkCache() *chunkCache {
	c, _ := lru.New[chunkKey, []byte](32)
	return c
}

// Inside reads what a piece of evidence says of itself.
func (s *Store) Inside(ctx context.Context, id uint64) (*Inside, error) {
	var in Inside
	err := s.read(ctx, func(db *gorm.DB) error { return db.Table("evidence").Where("id = ?", id).Take(&in).Error })
	return &in, err
}

// Open returns a reader over a piece of evidence, for as long as ctx lasts; bytes that
// are not held read as *disk.NotCaptured.
func (s *Store) Open(ctx context.Context, id uint64, in *Inside) (*capture.Sparse, error) {
	held, err := capture.NewPacked(&chunkReader{ctx, s, id}, in.Extents)
	if err != nil {
		return nil, err
	}
	return held.Failed(in.Unreadable), nil
}

// chunkReader reads the bytes held, one after the other.
type chunkReader struct {
	ctx context.Context
	s   *Store
	id  uint64
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
		clear(p[done : done+n])
		if in < len(data) {
			copy(p[done:done+n], data[in:])
		}
		done += n
	}
	return done, nil
}

// chunk returns a chunk's bytes; nil is a chunk of zeros.
func (r *chunkReader) chunk(number uint32) ([]byte, error) {
	key := chunkKey{r.id, number}
	if data, ok := r.s.chunks.Get(key); ok {
		return data, nil
	}
	var rows []chunk
	err := r.s.read(r.ctx, func(db *gorm.DB) error {
		return db.Where("evidence_id = ? AND number = ?", r.id, number).Limit(1).Find(&rows).Error
	})
	if err != nil {
		return nil, err
	}
	var data []byte
	if len(rows) > 0 {
		if data, err = decoder.DecodeAll(rows[0].Data, nil); err != nil {
			return nil, fmt.Errorf("evidence %d, chunk %d is damaged in the database: %w", r.id, number, err)
		}
	}
	r.s.chunks.Add(key, data)
	return data, nil
}
