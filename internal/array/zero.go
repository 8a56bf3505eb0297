package array

func (a *Array) zero(by *Client, off, length int64) error {
	if err := a.Layout().Check(off, length); err != nil {
		return err
	}
	zeros := make([]byte, Block)
	if head := off % Block; head != 0 && length > 0 {
		n := min(Block-head, length)
		if err := by.WriteAt(zeros[:n], off); err != nil {
			return err
		}
		off, length = off+n, length-n
	}
	if tail := length % Block; tail != 0 {
		length -= tail
		if err := by.WriteAt(zeros[:tail], off+length); err != nil {
			return err
		}
	}
	for w := a.walk(off); length > 0; {
		n, err := w.zero(by, length)
		if err != nil {
			return err
		}
		w.off, length = w.off+n, length-n
	}
	return nil
}

// zero makes what a walk has come to read as zeros, at most length bytes of one stripe, or passes over what was never written, so that trimming a large
// array costs what it holds. It says how far that goes.
func (w *walk) zero(by *Client, length int64) (n int64, err error) {
	st, in, leave, err := w.enter()
	if err != nil {
		return 0, err
	}
	defer leave()
	if n = min(length, st.Left(in)); in%st.Strip == 0 && n == st.Left(0) {
		if skip := w.never(st); skip > 0 {
			return min(length, skip), nil
		}
	}
	if err := w.a.lost(st, int(in/st.Strip)); err != nil {
		return 0, err
	}
	return n, w.a.cache.Zero(by, st, in, n)
}
