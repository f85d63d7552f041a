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

// hashOf is the hash of a file's content if that decides whether its job is skipped, "" otherwise.
// said is what is to be said if nobody has looked.
func (p *previewer) hashOf(w *work.Foretelling, unless string) (hash, said string) {
	decides := turn.ContentOf(&w.Job, unless, false)
	if !decides.Asked || unless == "" && !decides.Never {
		return "", ""
	}
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
	hash, err := content.Hash(root, at, size)
	if err != nil {
		return "", "" // the job would say so
	}
	return hash, ""
}

// wasHandled reports whether the job of a file with such content would be skipped.
func (p *previewer) wasHandled(w *work.Foretelling, hash, unless string) bool {
	is, err := turn.ContentOf(&w.Job, unless, false).Skips(hash, func(hash string) (bool, error) {
		if rule := w.Job.Rule.Name.S; p.l == nil || p.seen[rule+"\x00"+hash] {
			return p.seen[rule+"\x00"+hash], nil
		}
		return p.l.KnowsContent(w.Job.Rule.Name.S, hash, 0)
	})
	return err == nil && is
}
