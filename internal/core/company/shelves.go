package company

import (
	"container/list"

	"grayloft.example/grayloft/internal/core/shelf"
)

// entry is a result in the shared cache.
type entry struct {
	key   Key
	shelf string
	bytes int64
	used  float64
}

// shelves are the shared cache. Within a shelf, what was used longest ago goes first.
type shelves struct {
	quota int64
	keep  float64
	held  int64
	by    map[string]*kept
}

// kept is what one shelf holds.
type kept struct {
	bytes   int64
	entries map[Key]*list.Element
	order   *list.List // of *entry, by use
}

func newShelves(c Config) *shelves {
	return &shelves{quota: c.Quota, keep: c.Keep, by: map[string]*kept{}}
}

// find returns the entry of a key on the first shelf that has it, and notes its use.
func (s *shelves) find(k Key, now float64, names []string) *entry {
	for _, name := range names {
		on := s.by[name]
		if on == nil {
			continue
		}
		if el := on.entries[k]; el != nil {
			e := el.Value.(*entry)
			if s.keep > 0 && now-e.used > s.keep {
				s.remove(on, el)
				continue
			}
			e.used = now
			on.order.MoveToBack(el)
			return e
		}
	}
	return nil
}

// entryBytes is what an entry takes beside its outputs: its listing, log and ingredients.
const entryBytes = 4 << 10

func (s *shelves) add(k Key, now float64, name string, bytes int64) {
	on := s.by[name]
	if on == nil {
		on = &kept{entries: map[Key]*list.Element{}, order: list.New()}
		s.by[name] = on
	}
	if on.entries[k] != nil {
		return
	}
	e := &entry{k, name, bytes + entryBytes, now}
	on.entries[k] = on.order.PushBack(e)
	on.bytes += e.bytes
	s.held += e.bytes
	s.expire(on, now)
	if limit := shelf.Limit(name, s.quota, nil); limit > 0 {
		s.shrink(on, on.bytes-limit)
	}
	if s.quota > 0 && s.held > s.quota {
		s.makeRoom(s.held - s.quota + s.quota/50)
	}
}

// expire deletes what nobody used for long.
func (s *shelves) expire(on *kept, now float64) {
	for el := on.order.Front(); s.keep > 0 && el != nil && now-el.Value.(*entry).used > s.keep; el = on.order.Front() {
		s.remove(on, el)
	}
}

// makeRoom takes from each shelf what the product's rule says.
func (s *shelves) makeRoom(need int64) {
	var charges []shelf.Charge
	for name, on := range s.by {
		if on.bytes > 0 {
			charges = append(charges, shelf.Charge{Shelf: name, Bytes: on.bytes})
		}
	}
	for _, lost := range shelf.Losses(charges, s.quota, need) {
		s.shrink(s.by[lost.Shelf], lost.Bytes)
	}
}

// shrink deletes what was used longest ago, until so many bytes are free.
func (s *shelves) shrink(on *kept, bytes int64) {
	for bytes > 0 && on.order.Len() > 0 {
		el := on.order.Front()
		bytes -= el.Value.(*entry).bytes
		s.remove(on, el)
	}
}

func (s *shelves) remove(on *kept, el *list.Element) {
	e := on.order.Remove(el).(*entry)
	delete(on.entries, e.key)
	on.bytes -= e.bytes
	s.held -= e.bytes
}
