package main

import (
	"strings"
	"time"
)

// entry is a result on a shelf.
type entry struct {
	task    int
	key     uint64
	listing uint64
	shelf   string
	seconds float64
	maker   maker
	at      time.Time
	used    time.Time
}

// maker is who made an entry.
type maker struct {
	name, host, place, run string
	token                  int64
}

// keepDays is how many days an unused entry stays.
const keepDays = 60

// cache is the shared cache, with what it held at the end of each day.
type cache struct {
	m       *model
	shelves map[string]map[uint64]*entry
	held    map[shareOf]share
	days    []cacheDay
	removed []eviction
}

type shareOf struct {
	shelf   string
	project int
}

type share struct{ entries, bytes int64 }

type cacheDay struct {
	day time.Time
	shareOf
	share
}

type eviction struct {
	at time.Time
	shareOf
	share
}

func newCache(m *model) *cache {
	return &cache{m: m, shelves: map[string]map[uint64]*entry{}, held: map[shareOf]share{}}
}

// find returns the entry of a key on the first shelf that has it.
func (c *cache) find(key uint64, at time.Time, shelves ...string) *entry {
	for _, s := range shelves {
		if e := c.shelves[s][key]; e != nil {
			e.used = at
			return e
		}
	}
	return nil
}

func (c *cache) add(e *entry) {
	if c.shelves[e.shelf] == nil {
		c.shelves[e.shelf] = map[uint64]*entry{}
	}
	if c.shelves[e.shelf][e.key] == nil {
		c.shelves[e.shelf][e.key] = e
		c.count(e, 1)
	}
}

func (c *cache) count(e *entry, sign int64) {
	of := shareOf{family(e.shelf), c.m.tasks[e.task].owner}
	s := c.held[of]
	s.entries, s.bytes = s.entries+sign, s.bytes+sign*c.m.tasks[e.task].bytes
	if s.entries == 0 {
		delete(c.held, of)
		return
	}
	c.held[of] = s
}

// family is what growth is noted by.
func family(shelf string) string {
	if first, _, several := strings.Cut(shelf, "/"); several {
		return first + "/*"
	}
	return shelf
}

// endDay removes what was not used for long, and notes what there is.
func (c *cache) endDay(day time.Time) {
	gone := map[shareOf]share{}
	for shelf, entries := range c.shelves {
		for key, e := range entries {
			if day.Sub(e.used) < keepDays*24*time.Hour {
				continue
			}
			delete(entries, key)
			c.count(e, -1)
			of := shareOf{shelf, c.m.tasks[e.task].owner}
			s := gone[of]
			gone[of] = share{s.entries + 1, s.bytes + c.m.tasks[e.task].bytes}
		}
	}
	for of, s := range gone {
		c.removed = append(c.removed, eviction{day, of, s})
	}
	for of, s := range c.held {
		c.days = append(c.days, cacheDay{day, of, s})
	}
}
