package service

import (
	"slices"
	"sync"

	"yellowlantern/internal/core/plan"
)

const keptDocuments = 4

// documents remembers the documents that were read last: an edit's text is read for its findings, its objects and its review, one
// after the other. A document does not change once it is read.
type documents struct {
	mu   sync.Mutex
	kept []*plan.Document // the newest last
}

func (d *documents) read(text string) (*plan.Document, error) {
	d.mu.Lock()
	i := slices.IndexFunc(d.kept, func(k *plan.Document) bool { return k.Text == text })
	if i >= 0 {
		doc := d.kept[i]
		d.mu.Unlock()
		return doc, nil
	}
	d.mu.Unlock()
	doc, err := plan.Read(text)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.kept = append(d.kept, doc); len(d.kept) > keptDocuments {
		d.kept = slices.Delete(d.kept, 0, 1)
	}
	return doc, nil
}
