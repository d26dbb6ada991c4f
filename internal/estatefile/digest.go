package estatefile

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/sha256"
	"encoding/binary"
	"io"
	"os"
)

// digestKey is the size in bytes of the key of a digest.
const digestKey = 16

// fileDigest is a keyed digest of a file: GMAC (NIST SP 800-38D) of each block, and SHA-256 over
// those. The key is secret and used for one cache entry alone. It takes a tenth of the time
// of SHA-256 over everything, which for large tables would be as long as reading them.
type fileDigest struct {
	aead   cipher.AEAD
	block  []byte // what is not yet digested
	tags   []byte
	length uint64
}

const digestBlock = 1 << 18

func newDigest(key []byte) (*fileDigest, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &fileDigest{aead: aead}, err
}

// Write adds to what is digested. It implements io.Writer.
func (d *fileDigest) Write(p []byte) (int, error) {
	written := len(p)
	for len(p) > 0 {
		if d.block == nil {
			d.block = make([]byte, 0, digestBlock)
		}
		n := min(len(p), digestBlock-len(d.block))
		d.block, p = append(d.block, p[:n]...), p[n:]
		if len(d.block) == digestBlock {
			d.flush()
		}
	}
	return written, nil
}

func (d *fileDigest) flush() {
	nonce := make([]byte, d.aead.NonceSize())
	binary.LittleEndian.PutUint64(nonce, d.length)
	d.tags = d.aead.Seal(d.tags, nonce, nil, d.block)
	d.length += uint64(len(d.block))
	d.block = d.block[:0]
}

// sum returns the digest of what was written.
func (d *fileDigest) sum() []byte {
	d.flush()
	sum := sha256.Sum256(binary.LittleEndian.AppendUint64(d.tags, d.length))
	return sum[:]
}

// digested is a file that is read and digested at once.
type digested struct {
	*os.File
	digest *fileDigest
	ended  bool // all of it has been read
	done   func(d *digested)
}

// Read reads. It implements io.Reader.
func (d *digested) Read(p []byte) (int, error) {
	n, err := d.File.Read(p)
	_, _ = d.digest.Write(p[:n])
	d.ended = d.ended || err == io.EOF
	return n, err
}

// Close closes the file. It implements io.Closer.
func (d *digested) Close() error {
	d.done(d)
	return d.File.Close()
}
