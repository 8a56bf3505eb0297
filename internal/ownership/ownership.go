// Package ownership decides which of several hosts has an array, by leases in etcd. It writes no consensus of its own: an owner is a key that etcd
// holds for as long as the owner's lease lasts, and the revision at which it was made is the fencing token that lenders of disks check.
//
// What makes two writers impossible:
//
//   - An owner counts its lease from before it asked for it to be renewed, by a clock that goes on while the host sleeps, and has stopped writing when that
//     time is over. etcd counts from later on, so nobody else owns the array before.
//   - An owner that is paused cannot look at its clock. The next one begins its sessions with a higher token, and a lender has everything of the earlier
//     session done, and refuses what comes later, before it lets the next one read.
//   - An owner changes the roster only after etcd has the new one, in a transaction that compares the owner's key: so one that goes on with a member that the
//     next owner never reached learns that it is none any more before anything counts. etcd keeps the last roster that is on all of its members, and those
//     agreed on since then, which may be on some or on none. A next owner that finds older members only starts when each of these newer ones provably never
//     counted: one of its own members has not heard of it.
package ownership

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
)

// Settings are how etcd is reached, and who asks.
type Settings struct {
	Endpoints []string
	TLS       *tls.Config
	Lease     time.Duration // whole seconds, at least two
	Host      string
	Instance  string   // names this run of the service
	Addresses []string // where clients reach this host
	Watched   string   // where it can be watched; empty: nowhere
	Log       *slog.Logger
}

// DefaultLease is how long a lease lasts when nothing else is said.
const DefaultLease = 10 * time.Second

// Owner is who has an array.
type Owner struct {
	Host      string    `json:"host"`
	Instance  string    `json:"instance"`
	Addresses []string  `json:"addresses,omitempty"`
	Since     time.Time `json:"since"`
	Token     uint64    `json:"-"`
}

// Rosters are what an owner agreed on with etcd: the last one that was on all of its members, and those after it, oldest first.
type Rosters []Roster

// Roster is one of them.
type Roster struct {
	Epoch   uint64   `json:"epoch"`
	ID      string   `json:"id"`      // of the epoch
	Members []string `json:"members"` // that count, by identity
}

// OwnedError is why an array cannot be had: another host has it.
type OwnedError struct{ Owner Owner }

func (e OwnedError) Error() string {
	return fmt.Sprintf("host %s has it since %s", e.Owner.Host, e.Owner.Since.Local().Format("Jan 2 15:04:05"))
}

// StoppedError is why an array is left alone: it was taken out of service on a host, and was not started again.
type StoppedError struct{ Host string }

func (e StoppedError) Error() string { return "it was taken out of service on host " + e.Host }

var (
	// ErrOusted is wrapped when this host is not the owner any more.
	ErrOusted = errors.New("this host does not own it any more")
	// ErrNoLease is wrapped when there is no lease at the moment: etcd does not answer.
	ErrNoLease = errors.New("etcd gives no lease")
)

const (
	owners  = "nidalo/owner/"
	rosters = "nidalo/roster/"
	wishes  = "nidalo/wish/"    // the host that is to have an array next
	stopped = "nidalo/stopped/" // the host on which an array was taken out of service
	// WishFor is how long an array that is handed over waits for the host that is to have it, before any other may.
	WishFor = 15 * time.Second
	// call bounds one question to etcd.
	call = 3 * time.Second
	// look is how soon the owners are looked up again after etcd did not answer.
	look = time.Second
)

// Desk keeps the lease of this host, and its claims.
type Desk struct {
	set    Settings
	client *clientv3.Client
	ctx    context.Context
	end    context.CancelFunc
	wait   sync.WaitGroup
	news   chan struct{} // closed when the lease changes, and another one made

	deadline atomic.Int64 // of the lease, by the clock of now, ns

	doors sync.Map // a mutex for each array, see alone

	mu     sync.Mutex
	lease  clientv3.LeaseID // 0: none
	why    error            // there is no lease
	claims map[string]*Claim
	doubts map[string]*doubt // by array
	seen   map[string]Owner  // as looked up last
}

// Open begins to keep a lease. etcd need not answer yet.
func Open(set Settings) (*Desk, error) {
	if set.Lease == 0 {
		set.Lease = DefaultLease
	}
	c, err := connect(set)
	if err != nil {
		return nil, err
	}
	d := &Desk{set: set, client: c, claims: map[string]*Claim{}, doubts: map[string]*doubt{}, seen: map[string]Owner{}, news: make(chan struct{}), why: ErrNoLease}
	d.ctx, d.end = context.WithCancel(context.Background())
	d.wait.Go(d.keep)
	d.wait.Go(d.lookAround)
	d.wait.Go(d.tell)
	return d, nil
}

func connect(set Settings) (*clientv3.Client, error) {
	return clientv3.New(clientv3.Config{Endpoints: set.Endpoints, TLS: set.TLS, DialTimeout: call, DialKeepAliveTime: 5 * time.Second, DialKeepAliveTimeout: call, Logger: zap.NewNop()})
}

// Close gives the lease back: whatever is still claimed is free.
func (d *Desk) Close() {
	d.mu.Lock()
	lease := d.lease
	d.mu.Unlock()
	d.end()
	d.wait.Wait()
	if lease != 0 {
		ctx, cancel := context.WithTimeout(context.Background(), call)
		_, _ = d.client.Revoke(ctx, lease)
		cancel()
	}
	_ = d.client.Close()
}

// left is how long this host may still write: a lease counts as over a tenth before its end.
func (d *Desk) left() time.Duration {
	return time.Duration(d.deadline.Load()) - d.set.Lease/10 - now()
}

// keep has a lease, and renews it.
func (d *Desk) keep() {
	var renewed time.Duration
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	asking := make(chan struct{}, 1) // one question at a time, and the clock is looked at meanwhile
	for {
		select {
		case <-d.ctx.Done():
			return
		case <-tick.C:
		}
		d.mu.Lock()
		lease := d.lease
		d.mu.Unlock()
		if lease != 0 && d.left() <= 0 {
			d.lost(lease, fmt.Errorf("%w: etcd did not renew the lease in time", ErrOusted))
			continue
		}
		if lease != 0 && now()-renewed < d.set.Lease/4 {
			continue
		}
		select {
		case asking <- struct{}{}:
		default:
			continue
		}
		renewed = now()
		d.wait.Go(func() {
			defer func() { <-asking }()
			d.renew(lease)
		})
	}
}

// renew asks for the lease to last longer, or for a first one.
func (d *Desk) renew(lease clientv3.LeaseID) {
	ctx, cancel := context.WithTimeout(d.ctx, call)
	defer cancel()
	asked := now()
	if lease == 0 {
		r, err := d.client.Grant(ctx, int64(d.set.Lease/time.Second))
		d.mu.Lock()
		defer d.mu.Unlock()
		if err != nil {
			d.why = fmt.Errorf("%w: %w", ErrNoLease, err)
			return
		}
		d.deadline.Store(int64(asked + time.Duration(r.TTL)*time.Second))
		d.lease, d.why = r.ID, nil
		close(d.news)
		d.news = make(chan struct{})
		return
	}
	r, err := d.client.KeepAliveOnce(ctx, lease)
	switch {
	case errors.Is(err, rpctypes.ErrLeaseNotFound):
		d.lost(lease, fmt.Errorf("%w: its lease is over", ErrOusted))
	case err != nil: // as long as the lease lasts there is time to ask again
	default:
		d.mu.Lock()
		if d.lease == lease {
			d.deadline.Store(max(d.deadline.Load(), int64(asked+time.Duration(r.TTL)*time.Second)))
		}
		d.mu.Unlock()
	}
}

// lost ends a lease with all claims under it.
func (d *Desk) lost(lease clientv3.LeaseID, why error) {
	d.mu.Lock()
	if d.lease != lease {
		d.mu.Unlock()
		return
	}
	d.lease, d.why = 0, ErrNoLease
	claims := d.claims
	d.claims = map[string]*Claim{}
	d.mu.Unlock()
	for _, c := range claims {
		c.lose(why)
	}
	d.set.Log.Warn("the lease is over", "reason", why, "arrays", len(claims))
}

// lookAround looks up who owns what.
func (d *Desk) lookAround() {
	for {
		d.follow()
		select {
		case <-d.ctx.Done():
			return
		case <-time.After(look):
		}
	}
}

// follow looks the owners up once, and hears of every change from then on, until etcd does not answer.
func (d *Desk) follow() {
	ctx, cancel := context.WithTimeout(d.ctx, call)
	r, err := d.client.Get(ctx, owners, clientv3.WithPrefix())
	cancel()
	if err != nil {
		return
	}
	seen := map[string]Owner{}
	for _, kv := range r.Kvs {
		note(seen, kv)
	}
	d.mu.Lock()
	d.seen = seen
	d.mu.Unlock()
	ctx, cancel = context.WithCancel(clientv3.WithRequireLeader(d.ctx))
	defer cancel()
	for news := range d.client.Watch(ctx, owners, clientv3.WithPrefix(), clientv3.WithRev(r.Header.Revision+1)) {
		if news.Err() != nil {
			return
		}
		d.mu.Lock()
		for _, e := range news.Events {
			if e.Type == clientv3.EventTypeDelete {
				delete(d.seen, strings.TrimPrefix(string(e.Kv.Key), owners))
			} else {
				note(d.seen, e.Kv)
			}
		}
		d.mu.Unlock()
	}
}

// note takes down who owns an array.
func note(seen map[string]Owner, kv *mvccpb.KeyValue) {
	if o, err := decode(kv.Value, uint64(kv.CreateRevision)); err == nil {
		seen[strings.TrimPrefix(string(kv.Key), owners)] = o
	}
}

func decode(value []byte, token uint64) (o Owner, err error) {
	err = json.Unmarshal(value, &o)
	o.Token = token
	return o, err
}

// Owner is who had an array when that was looked up last, a second ago or so.
func (d *Desk) Owner(array string) (Owner, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	o, ok := d.seen[array]
	return o, ok
}

// held waits for a lease, for a moment.
func (d *Desk) held() (clientv3.LeaseID, error) {
	until := time.After(call)
	for {
		d.mu.Lock()
		lease, why, news := d.lease, d.why, d.news
		d.mu.Unlock()
		if lease != 0 {
			return lease, nil
		}
		select {
		case <-news:
		case <-until:
			return 0, why
		case <-d.ctx.Done():
			return 0, d.ctx.Err()
		}
	}
}

// Claim makes this host the owner of an array, if nobody is. Another owner is an OwnedError. One that was taken out of service is a StoppedError, unless it is to
// be started again.
func (d *Desk) Claim(array string, again bool) (*Claim, error) {
	lease, err := d.held()
	if err != nil {
		return nil, err
	}
	defer d.alone(array)()
	d.mu.Lock()
	if c := d.claims[array]; c != nil {
		d.mu.Unlock()
		return c, nil
	}
	d.mu.Unlock()
	ctx, cancel := context.WithTimeout(d.ctx, call)
	defer cancel()
	value, err := json.Marshal(Owner{Host: d.set.Host, Instance: d.set.Instance, Addresses: d.set.Addresses, Since: time.Now()})
	if err != nil {
		return nil, err
	}
	take := []clientv3.Op{clientv3.OpPut(owners+array, string(value), clientv3.WithLease(lease)), clientv3.OpDelete(wishes + array), clientv3.OpDelete(stopped + array)}
	var r *clientv3.TxnResponse
	for r == nil || !r.Succeeded { // until nothing changed between the look and the claim
		free, err := d.free(ctx, array, again)
		var owned OwnedError
		if errors.As(err, &owned) && owned.Owner.Instance == d.set.Instance { // it asked for it before, and had no answer
			if err = d.drop(array, owned.Owner.Token, d.instead(array, again)...); err == nil {
				continue
			}
		}
		if err != nil {
			return nil, err
		}
		if r, err = d.client.Txn(ctx).If(free...).Then(take...).Commit(); err != nil {
			d.giveBack(array)
			return nil, fmt.Errorf("%w: %w", ErrNoLease, err)
		}
	}
	c := &Claim{desk: d, array: array, token: uint64(r.Header.Revision), done: make(chan struct{})}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.lease != lease {
		return nil, fmt.Errorf("%w: the lease ended meanwhile", ErrNoLease)
	}
	d.claims[array] = c
	if about := d.doubts[array]; about != nil {
		about.more = nil // it was started again
	}
	return c, nil
}

// free says under which conditions an array may be claimed, as etcd has it now. They hold as long as no other owner, wish or stop comes.
func (d *Desk) free(ctx context.Context, array string, again bool) (unchanged []clientv3.Cmp, err error) {
	r, err := d.client.Txn(ctx).Then(clientv3.OpGet(owners+array), clientv3.OpGet(wishes+array), clientv3.OpGet(stopped+array)).Commit()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoLease, err)
	}
	for i, prefix := range []string{owners, wishes, stopped} {
		revision := int64(0) // of what is not there
		for _, kv := range r.Responses[i].GetResponseRange().Kvs {
			switch revision = kv.ModRevision; {
			case prefix == owners:
				o, _ := decode(kv.Value, uint64(kv.CreateRevision)) // whatever it says, somebody has it
				return nil, OwnedError{o}
			case prefix == wishes && string(kv.Value) != d.set.Host:
				return nil, OwnedError{Owner{Host: string(kv.Value), Since: time.Now()}}
			case prefix == stopped && !again:
				return nil, StoppedError{string(kv.Value)}
			}
		}
		unchanged = append(unchanged, clientv3.Compare(clientv3.ModRevision(prefix+array), "=", revision))
	}
	return unchanged, nil
}

// Claim is an array that this host owns.
type Claim struct {
	desk  *Desk
	array string
	token uint64
	kept  Rosters // that etcd has; by Agree only
	once  sync.Once
	why   error
	done  chan struct{}
}

// Token is the fencing token: that of each later owner is higher.
func (c *Claim) Token() uint64 { return c.token }

// Left is how long this host may still write and answer, if etcd does not renew its lease; not above zero: it may not.
func (c *Claim) Left() time.Duration {
	select {
	case <-c.done:
		return 0
	default:
		return c.desk.left()
	}
}

// Done is closed when this host owns the array no more.
func (c *Claim) Done() <-chan struct{} { return c.done }

// Why is why it does not, once Done is closed.
func (c *Claim) Why() error {
	<-c.done
	return c.why
}

func (c *Claim) lose(why error) {
	c.once.Do(func() {
		c.why = why
		close(c.done)
	})
}

// Lose notes that another host has the array, as a lender or a disk says. Should etcd not know of that one, it will not have this claim for long either.
func (c *Claim) Lose(why error) {
	c.desk.mu.Lock()
	if c.desk.claims[c.array] == c {
		delete(c.desk.claims, c.array)
	}
	c.desk.mu.Unlock()
	c.lose(fmt.Errorf("%w: %w", ErrOusted, why))
	c.desk.giveBack(c.array)
}

// mine compares the owner's key with this claim.
func (c *Claim) mine() clientv3.Cmp { return has(c.array, c.token) }

func has(array string, token uint64) clientv3.Cmp {
	return clientv3.Compare(clientv3.CreateRevision(owners+array), "=", int64(token))
}

// Agree has etcd keep a roster, before the array goes by it. It tries for as long as the lease lasts. Rosters before the epoch whole are on all members, or
// were made good by one that is; 0 when that is not known. One call at a time.
func (c *Claim) Agree(r Roster, whole uint64) error {
	kept := append(slices.Clone(c.kept), r)
	for len(kept) > 1 && kept[1].Epoch <= whole {
		kept = kept[1:]
	}
	value, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	for {
		select {
		case <-c.done:
			return c.why
		default:
		}
		ctx, cancel := context.WithTimeout(c.desk.ctx, call)
		out, err := c.desk.client.Txn(ctx).If(c.mine()).Then(clientv3.OpPut(rosters+c.array, string(value))).Commit()
		cancel()
		switch {
		case err == nil && !out.Succeeded:
			c.Lose(errors.New("etcd says so"))
			return c.why
		case err == nil:
			c.kept = kept
			return nil
		}
		select {
		case <-c.done:
			return c.why
		case <-c.desk.ctx.Done():
			return c.desk.ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Agreed is what earlier owners agreed on; none for an array that had no owner yet. This claim's go behind it.
func (c *Claim) Agreed() (r Rosters, err error) {
	ctx, cancel := context.WithTimeout(c.desk.ctx, call)
	defer cancel()
	out, err := c.desk.client.Get(ctx, rosters+c.array)
	if err != nil || len(out.Kvs) == 0 {
		return nil, err
	}
	if err = json.Unmarshal(out.Kvs[0].Value, &r); err == nil {
		c.kept = r
	}
	return r, err
}

// Allows says whether an owner may go on from what it found: the epochs of members by identity, and the newest roster among them. It may when each roster
// that is newer never counted: a roster counts only when it is on all of its members, so one of them that has not heard of it is proof.
func (all Rosters) Allows(found map[string]uint64, newest uint64, id string) error {
	known := false // the newest one, or nothing was ever agreed on in its epoch
	same := false
	for _, r := range all {
		if r.Epoch == newest {
			same, known = true, known || r.ID == id
		}
		if r.Epoch <= newest || r.refuted(found) {
			continue
		}
		return fmt.Errorf("its last owner went on in epoch %d with %d members of which none is here; those that are know of epoch %d", r.Epoch, len(r.Members), newest)
	}
	if same && !known {
		return fmt.Errorf("its disks are of an epoch %d that its last owner did not agree on", newest)
	}
	return nil
}

// refuted says whether a roster never was on all of its members.
func (r Roster) refuted(found map[string]uint64) bool {
	return slices.ContainsFunc(r.Members, func(m string) bool {
		epoch, there := found[m]
		return there && epoch < r.Epoch
	})
}

// Release gives the array up in order. to names the host that is to have it; empty: whoever comes. After an error etcd is asked until it answers, and whoever
// comes has it then.
func (c *Claim) Release(to string) error {
	ctx, cancel := context.WithTimeout(context.Background(), call)
	defer cancel()
	if to == "" {
		return c.giveUp(ctx, nil)
	}
	lease, err := c.desk.client.Grant(ctx, int64(WishFor/time.Second))
	if err != nil {
		return errors.Join(err, c.giveUp(ctx, nil))
	}
	return c.giveUp(ctx, nil, clientv3.OpPut(wishes+c.array, to, clientv3.WithLease(lease.ID)))
}

// Rest gives the array up, and has no other host take it over: it was taken out of service. After an error etcd is asked until it answers.
func (c *Claim) Rest() error {
	return c.giveUpWith(clientv3.OpPut(stopped+c.array, c.desk.set.Host))
}

// Forget gives an array up that is no more, with what etcd holds of it. After an error etcd is asked until it answers.
func (c *Claim) Forget() error {
	return c.giveUpWith(clientv3.OpDelete(rosters + c.array))
}

func (c *Claim) giveUpWith(more clientv3.Op) error {
	ctx, cancel := context.WithTimeout(context.Background(), call)
	defer cancel()
	return c.giveUp(ctx, []clientv3.Op{more}, more)
}

// giveUp gives the array up, and does some more in the same moment. later is what is left to do of that when etcd answers only later.
func (c *Claim) giveUp(ctx context.Context, later []clientv3.Op, more ...clientv3.Op) error {
	c.desk.mu.Lock()
	if c.desk.claims[c.array] == c {
		delete(c.desk.claims, c.array)
	}
	c.desk.mu.Unlock()
	_, err := c.desk.client.Txn(ctx).If(c.mine()).Then(append(more, clientv3.OpDelete(owners+c.array))...).Commit()
	if err != nil {
		c.desk.giveBack(c.array, later...)
	}
	c.lose(fmt.Errorf("%w: it was given up", ErrOusted))
	return err
}
