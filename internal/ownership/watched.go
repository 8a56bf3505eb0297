package ownership

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// watched is where hosts can be watched. No lease holds these: a host that is lost is missed.
const watched = "nidalo/watched/"

// tell writes down where this host is watched, as soon as etcd answers.
func (d *Desk) tell() {
	for d.set.Watched != "" && d.ctx.Err() == nil {
		ctx, cancel := context.WithTimeout(d.ctx, call)
		_, err := d.client.Put(ctx, watched+d.set.Host, d.set.Watched)
		cancel()
		if err == nil {
			return
		}
		select {
		case <-d.ctx.Done():
		case <-time.After(call):
		}
	}
}

// WatchedHost is where a host can be watched.
type WatchedHost struct{ Host, Address string }

// Watched is what hosts wrote down, by their names.
func Watched(ctx context.Context, set Settings) (all []WatchedHost, err error) {
	err = ask(ctx, set, func(ctx context.Context, c *clientv3.Client) error {
		reply, err := c.Get(ctx, watched, clientv3.WithPrefix())
		if err != nil {
			return err
		}
		for _, kv := range reply.Kvs {
			all = append(all, WatchedHost{strings.TrimPrefix(string(kv.Key), watched), string(kv.Value)})
		}
		return nil
	})
	return all, err
}

// ForgetWatched takes away what a host wrote down, if it did; it is named as it calls itself, or by its address.
func ForgetWatched(ctx context.Context, set Settings, host string) (known bool, err error) {
	err = ask(ctx, set, func(ctx context.Context, c *clientv3.Client) error {
		reply, err := c.Get(ctx, watched, clientv3.WithPrefix())
		if err != nil {
			return err
		}
		i := slices.IndexFunc(reply.Kvs, func(kv *mvccpb.KeyValue) bool {
			return strings.TrimPrefix(string(kv.Key), watched) == host || string(kv.Value) == host
		})
		if known = i >= 0; known {
			_, err = c.Delete(ctx, string(reply.Kvs[i].Key))
		}
		return err
	})
	return known, err
}

// ask asks etcd one question, without a lease.
func ask(ctx context.Context, set Settings, what func(context.Context, *clientv3.Client) error) error {
	client, err := connect(set)
	if err != nil {
		return err
	}
	defer client.Close()
	ctx, cancel := context.WithTimeout(ctx, call)
	defer cancel()
	if err := what(ctx, client); err != nil {
		return fmt.Errorf("etcd at %s: %w", strings.Join(set.Endpoints, ", "), err)
	}
	return nil
}
