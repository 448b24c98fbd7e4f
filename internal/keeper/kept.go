package keeper

// keptWards are all wards, and what is looked up among them often: there may be very many. It is guarded by the Keeper's mu.
type keptWards struct {
	all   map[string]*placement // by name@cluster
	named wardsBy               // by their names
	after wardsBy               // by the names of those that they go after
	in    wardsBy               // by their clusters
	moved uint64                // grows whenever one comes or goes
}

type wardsBy map[string]map[string]*placement

func (i wardsBy) put(key string, p *placement) {
	if i[key] == nil {
		i[key] = map[string]*placement{}
	}
	i[key][p.ID] = p
}

func (i wardsBy) drop(key string, p *placement) {
	if i[key][p.ID] == p {
		if delete(i[key], p.ID); len(i[key]) == 0 {
			delete(i, key)
		}
	}
}

func newKept() keptWards {
	return keptWards{all: map[string]*placement{}, named: wardsBy{}, after: wardsBy{}, in: wardsBy{}}
}

// enter adds a ward, in the place of one of the same id.
func (w *keptWards) enter(p *placement) {
	if old := w.all[p.ID]; old != nil {
		w.leave(old)
	}
	w.moved++
	w.all[p.ID] = p
	w.named.put(p.Ward.Name, p)
	w.in.put(p.cluster.conf.Name, p)
	for _, name := range p.Ward.After {
		w.after.put(name, p)
	}
}

// leave takes a ward out.
func (w *keptWards) leave(p *placement) {
	if w.all[p.ID] != p {
		return
	}
	w.moved++
	delete(w.all, p.ID)
	w.named.drop(p.Ward.Name, p)
	w.in.drop(p.cluster.conf.Name, p)
	for _, name := range p.Ward.After {
		w.after.drop(name, p)
	}
}
