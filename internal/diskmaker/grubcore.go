package diskmaker

import (
	"bytes"
	"encoding/binary"

	"github.com/ulikunitz/xz/lzma"
)

// The core image made here stands where GRUB's own would and holds its prefix in
// the same form; it cannot be run. Layout: GNU GRUB 2.06, include/grub/offsets.h
// and include/grub/kernel.h.
const (
	coreUnpackLen = 0xB20 // bytes before the packed part
	coreSector    = 1
)

// grubSector returns sector 0 with what tells GRUB's boot code: its name, its
// messages and the place of its core image.
func grubSector() []byte {
	b := make([]byte, 512)
	copy(b, []byte{0xEB, 0x63, 0x90})
	copy(b[0x180:], "GRUB \x00Geom\x00Hard Disk\x00Read\x00 Error\r\n\x00")
	binary.LittleEndian.PutUint64(b[0x5C:], coreSector)
	return b
}

// grubCore returns a core image whose further sectors follow the first.
func grubCore(prefix string) ([]byte, error) {
	le := binary.LittleEndian
	text := append([]byte(prefix), 0)
	kernel := make([]byte, 1024)
	kernel = le.AppendUint32(kernel, 0x676D696D)
	kernel = le.AppendUint32(kernel, 12)
	kernel = le.AppendUint32(kernel, uint32(12+8+len(text)))
	kernel = le.AppendUint32(kernel, 3)
	kernel = le.AppendUint32(kernel, uint32(8+len(text)))
	kernel = append(kernel, text...)
	var packed bytes.Buffer
	w, err := lzma.WriterConfig{Properties: &lzma.Properties{LC: 3, LP: 0, PB: 2}, DictCap: 1 << 16,
		Size: int64(len(kernel)), SizeInHeader: true}.NewWriter(&packed)
	if err == nil {
		_, err = w.Write(kernel)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, err
	}
	body := packed.Bytes()[13:] // without the format's header
	rest := make([]byte, (coreUnpackLen+len(body)+511)/512*512)
	le.PutUint32(rest[0x08:], uint32(len(body)))
	le.PutUint32(rest[0x0C:], uint32(len(kernel)))
	copy(rest[coreUnpackLen:], body)
	first := make([]byte, 512)
	copy(first, []byte{0x52, 0xE5})
	le.PutUint64(first[0x1F4:], coreSector+1)
	le.PutUint16(first[0x1FC:], uint16(len(rest)/512))
	return append(first, rest...), nil
}
