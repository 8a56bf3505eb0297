package ownership

import (
	"context"
	"errors"
	"sync"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
)

// An answer of etcd may be lost. What was asked for may have been done all the same, or be done later. So etcd may take this host for the owner of an array
// that the host does not claim. The host renews its lease, so nobody else would ever get that array. It asks until it knows.

// alone has one at a time change what this host has of an array in etcd.
func (d *Desk) alone(array string) (leave func()) {
	door, _ := d.doors.LoadOrStore(array, &sync.Mutex{})
	door.(*sync.Mutex).Lock()
	return door.(*sync.Mutex).Unlock
}

// settled is how often in a row, a look apart, etcd has to say that an array is not this host's: nothing that was asked for earlier is on its way by then.
const settled = 12

// doubt is about an array that this host may have without a claim.
type doubt struct {
	free int           // how often in a row etcd said that it has not
	more []clientv3.Op // what is to be done in the same moment in which it is given up
}

// giveBack gives an array up until etcd has it so, unless it is claimed anew. It does not wait for that.
func (d *Desk) giveBack(array string, more ...clientv3.Op) {
	d.mu.Lock()
	defer d.mu.Unlock()
	doubted := d.doubts[array]
	if doubted == nil {
		doubted = &doubt{}
		d.doubts[array] = doubted
		go d.settle(array, doubted)
	}
	if doubted.free = 0; len(more) > 0 {
		doubted.more = more
	}
}

// instead is for an array that is claimed while it is still being given up: what was to be done when it is. When somebody asks for the array, nothing.
func (d *Desk) instead(array string, again bool) []clientv3.Op {
	d.mu.Lock()
	defer d.mu.Unlock()
	if about := d.doubts[array]; about != nil && !again {
		return about.more
	}
	return nil
}

func (d *Desk) settle(array string, about *doubt) {
	for {
		token, err := d.unclaimed(array)
		d.mu.Lock()
		switch {
		case err == nil && token == 0:
			about.free++
		case err == nil:
			about.free = 0
		}
		more := about.more
		if d.claims[array] != nil || about.free >= settled {
			delete(d.doubts, array)
			d.mu.Unlock()
			return
		}
		d.mu.Unlock()
		if token != 0 {
			_ = d.drop(array, token, more...)
		}
		select {
		case <-d.ctx.Done(): // and the lease ends
			return
		case <-time.After(look):
		}
	}
}

var errClaimed = errors.New("it is claimed")

// drop gives up what this host has by a token.
func (d *Desk) drop(array string, token uint64, more ...clientv3.Op) error {
	ctx, cancel := context.WithTimeout(d.ctx, call)
	defer cancel()
	_, err := d.client.Txn(ctx).If(has(array, token)).Then(append(more, clientv3.OpDelete(owners+array))...).Commit()
	return err
}

// unclaimed is the token by which etcd has an array as this host's, which does not claim it; 0: it has not.
func (d *Desk) unclaimed(array string) (token uint64, err error) {
	defer d.alone(array)()
	d.mu.Lock()
	claimed := d.claims[array] != nil
	d.mu.Unlock()
	if claimed {
		return 0, errClaimed
	}
	ctx, cancel := context.WithTimeout(d.ctx, call)
	defer cancel()
	r, err := d.client.Get(ctx, owners+array)
	if err != nil || len(r.Kvs) == 0 {
		return 0, err
	}
	if o, err := decode(r.Kvs[0].Value, uint64(r.Kvs[0].CreateRevision)); err == nil && o.Instance == d.set.Instance {
		return o.Token, nil
	}
	return 0, nil
}
