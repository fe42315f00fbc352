package files

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unsafe"

	"tugline/internal/atomicfile"
)

// The index keeps on disk what a tree knows of all files. A folder of it is
// unpacked only when it is used. Its format:
//
//	magic, 8 bytes
//	the time at which it was written (8), a digest of the boot in which it was (32)
//	for each folder: the lengths of its head and of the list of its entries (4 + 4),
//	    their checksums (4 + 4)
//	    head: whether its names are all known (1), whether it is a link (1), stamp (41),
//	        the sum of all its files, if it is known (32), path
//	    for each entry: the length of its name (2), name, stamp, hashed (1), digest (32)
//
// Checksums are CRC-32 (IEEE); all numbers are little-endian. The index
// is a cache: a part of it that cannot be read is ignored.
const magic = "TUGFILE5"

// writtenBack is how long a system may keep what was written before it is on the
// disk, with a wide margin: Linux writes back after 30 s, and commits after 5 s.
// When the machine stopped in between, a file may have its new times and its old
// content. So after another boot, digests of files that were younger when the
// index was written are not believed.
const writtenBack = int64(10 * time.Minute)

const stampSize = 8*4 + 4 + 4 + 1

// Open returns the tree below top with what the index in the folder kept says
// of it. Both paths are absolute.
func Open(top, kept string) *Tree { return openIn(top, kept, bootID()) }

// openIn is Open in a boot of the machine.
func openIn(top, kept, boot string) *Tree {
	t := New(top)
	t.boot = Sum([]byte(boot))
	// It is read rather than mapped into memory: a mapped file that somebody cuts
	// short ends the program.
	if data, err := os.ReadFile(filepath.Join(kept, "index")); err == nil && len(data) > 0 {
		t.decode(unsafe.String(&data[0], len(data))) // nobody changes it
	}
	return t
}

// Save writes the index into the folder kept, if there is something new in it.
func (t *Tree) Save(kept string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.dirty {
		return nil
	}
	if err := atomicfile.Write(filepath.Join(kept, "index"), t.encode()); err != nil {
		return fmt.Errorf("keeping what is known of the files: %w", err)
	}
	t.dirty = false
	return nil
}

func (t *Tree) encode() []byte {
	paths := make([]string, 0, len(t.folders))
	for path := range t.folders {
		paths = append(paths, path)
	}
	slices.Sort(paths)
	data := make([]byte, 0, t.packedSize())
	data = append(data, magic...)
	data = binary.LittleEndian.AppendUint64(data, uint64(time.Now().UnixNano()))
	data = append(data, t.boot[:]...)
	for _, path := range paths {
		data = t.folders[path].encode(data)
	}
	return data
}

// packedSize returns about how long the index will be: making it room bit by
// bit would cost more than writing it.
func (t *Tree) packedSize() int {
	size := len(magic) + 8 + len(t.boot)
	for _, f := range t.folders {
		size += f.packedSize()
	}
	return size
}

func (f *folder) packedSize() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	size := 16 + 2 + stampSize + len(f.whole) + len(f.path) + len(f.packed)
	for i := range f.entries {
		size += 2 + len(f.entries[i].name) + stampSize + 1 + len(f.entries[i].digest)
	}
	return size
}

func (f *folder) encode(data []byte) []byte {
	f.mu.Lock()
	defer f.mu.Unlock()
	le := binary.LittleEndian
	at := len(data)
	data = append(data, make([]byte, 16)...) // lengths and checksums, see below
	data = append(data, flag(f.named), flag(f.follow))
	data = append(f.self.encode(data), f.whole[:]...)
	data = append(data, f.path...)
	start := len(data)
	data = f.encodeEntries(data)
	le.PutUint32(data[at:], uint32(start-at-16))
	le.PutUint32(data[at+4:], uint32(len(data)-start))
	le.PutUint32(data[at+8:], crc32.ChecksumIEEE(data[at+16:start]))
	le.PutUint32(data[at+12:], crc32.ChecksumIEEE(data[start:]))
	return data
}

func (f *folder) encodeEntries(data []byte) []byte {
	if f.packed != "" && checksum(f.packed) == f.check {
		return append(data, f.packed...)
	}
	le := binary.LittleEndian
	for i := range f.entries {
		e := &f.entries[i]
		if e.kind == Gone && !f.named {
			continue
		}
		data = le.AppendUint16(data, uint16(len(e.name)))
		data = append(data, e.name...)
		data = e.stamp.encode(data)
		data = append(data, flag(e.hashed && e.reliable))
		data = append(data, e.digest[:]...)
	}
	return data
}

func flag(yes bool) byte {
	if yes {
		return 1
	}
	return 0
}

func (s *stamp) encode(data []byte) []byte {
	le := binary.LittleEndian
	data = le.AppendUint64(data, uint64(s.size))
	data = le.AppendUint64(data, uint64(s.modified))
	data = le.AppendUint64(data, uint64(s.changed))
	data = le.AppendUint64(data, s.inode)
	data = le.AppendUint32(data, s.mode)
	data = le.AppendUint32(data, s.links)
	return append(data, byte(s.kind))
}

// decoder reads a packed index. After the first mistake all that it reads is empty.
type decoder struct {
	data string
	bad  bool
}

func (d *decoder) take(n int) string {
	if n > len(d.data) || n < 0 {
		d.bad, d.data = true, ""
		return ""
	}
	taken := d.data[:n]
	d.data = d.data[n:]
	return taken
}

func (d *decoder) byte() byte {
	if s := d.take(1); len(s) == 1 {
		return s[0]
	}
	return 0
}

func (d *decoder) uint16() uint16 {
	if s := d.take(2); len(s) == 2 {
		return uint16(s[0]) | uint16(s[1])<<8
	}
	return 0
}

func (d *decoder) uint32() uint32 { return le32(d.take(4)) }

func le32(s string) uint32 {
	if len(s) < 4 {
		return 0
	}
	return uint32(s[0]) | uint32(s[1])<<8 | uint32(s[2])<<16 | uint32(s[3])<<24
}

func le64(s string) uint64 { return uint64(le32(s)) | uint64(le32(s[min(4, len(s)):]))<<32 }

func (d *decoder) stamp() stamp {
	s := d.take(stampSize)
	if s == "" {
		return stamp{}
	}
	return stamp{
		size: int64(le64(s)), modified: int64(le64(s[8:])), changed: int64(le64(s[16:])),
		inode: le64(s[24:]), mode: le32(s[32:]), links: le32(s[36:]), kind: Kind(s[40]),
	}
}

// decode reads an index into t. The entries of a folder are unpacked when the
// folder is first used; their names share the memory of data.
func (t *Tree) decode(data string) {
	if !strings.HasPrefix(data, magic) {
		return
	}
	d := decoder{data: data[len(magic):]}
	saved := int64(le64(d.take(8)))
	trusted := int64(math.MaxInt64)
	if boot := d.take(len(t.boot)); boot != string(t.boot[:]) {
		trusted = saved - writtenBack
	}
	folders := map[string]*folder{}
	for len(d.data) > 0 && !d.bad {
		headLength, entries, headSum, sum := int(d.uint32()), int(d.uint32()), d.uint32(), d.uint32()
		head := d.take(headLength)
		if checksum(head) != headSum {
			return
		}
		h := decoder{data: head}
		f := &folder{trusted: trusted, named: h.byte() == 1, follow: h.byte() == 1, self: h.stamp()}
		copy(f.whole[:], h.take(len(f.whole)))
		f.path, f.packed, f.check = h.data, d.take(entries), sum
		folders[f.path] = f
	}
	if !d.bad {
		t.folders = folders
	}
}

func checksum(text string) uint32 {
	return crc32.ChecksumIEEE(unsafe.Slice(unsafe.StringData(text), len(text))) // it is only read
}

// unpack reads the entries of f from the index, into the memory of spare if they
// fit. f is locked.
func (f *folder) unpack(spare []entry) {
	if f.packed == "" || f.entries != nil {
		return
	}
	if checksum(f.packed) != f.check {
		f.changed()
		f.named = false
		return
	}
	f.entries = slices.Grow(spare[:0], len(f.packed)/(stampSize+2+1+32+12)+1)
	d := decoder{data: f.packed}
	young := false
	for len(d.data) > 0 && !d.bad {
		f.entries = append(f.entries, entry{})
		e := &f.entries[len(f.entries)-1]
		e.name = d.take(int(d.uint16()))
		e.stamp = d.stamp()
		e.hashed = d.byte() == 1
		e.reliable = e.hashed
		copy(e.digest[:], d.take(len(e.digest)))
		if e.hashed && max(e.modified, e.changed) > f.trusted {
			e.hashed, e.reliable, young = false, false, true
		}
	}
	if young {
		f.changed()
	}
}

// repack drops the unpacked entries of f, and returns their memory, if all stamps
// were taken in this generation and equal the index: a run uses most folders
// once. A folder that is used a second time stays unpacked. f is locked.
func (f *folder) repack(generation int32) (spare []entry) {
	if f.packed == "" || f.stamped != generation || f.again {
		return nil
	}
	spare, f.entries, f.again = f.entries, nil, true
	return spare
}
