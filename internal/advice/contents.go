package advice

import (
	"crypto/sha256"
	"encoding/hex"

	"stilltide/internal/content"
	"stilltide/internal/core/turn"
	"stilltide/internal/work"
)

// contents is what is foretold of files by their content.
type contents struct {
	seen map[string]bool // by rule and hash: content that a job before would have handled
	read int64           // bytes read for it
}

// maxRead bounds what a preview reads of files only to know whether their content was handled
// before; of what lies beyond it says that it does not know.
const maxRead = 4 << 30

// handledBefore reports whether the job of a file would be skipped for its content. hash is that of
// the content if it decides, "" otherwise; said is what is to be said if the content is not known.
func (p *previewer) handledBefore(w *work.Foretelling, unless string) (is bool, hash, said string) {
	decides := turn.ContentOf(&w.Job, unless, false)
	if !decides.Asked || unless == "" && !decides.Never {
		return false, "", ""
	}
	if hash, said = p.hashOf(w); hash == "" {
		return false, "", said // the job would say what is wrong
	}
	is, err := decides.Skips(hash, func(hash string) (bool, error) {
		if name := w.Job.Rule.Name.S; !p.seen[name+"\x00"+hash] && p.l != nil {
			return p.l.KnowsContent(name, hash, w.Job.ID)
		}
		return p.seen[w.Job.Rule.Name.S+"\x00"+hash], nil
	})
	return is && err == nil, hash, ""
}

// hashOf reads the content that a file would have.
func (p *previewer) hashOf(w *work.Foretelling) (hash, said string) {
	if w.Self.Text != nil {
		sum := sha256.Sum256(w.Self.Text)
		return hex.EncodeToString(sum[:]), ""
	}
	at, size := w.Self.Source, w.Self.Facts.Size
	if w.Self.Open || at == "" || p.read+size > maxRead {
		return "", "skip it if the same content was handled before"
	}
	p.read += size
	root := w.Job.Watch
	if at != w.Job.File {
		root = "" // it would come from elsewhere
	}
	hash, _ = content.Hash(root, at, size)
	return hash, ""
}
