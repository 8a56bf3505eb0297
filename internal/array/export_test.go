package array

import "nidalo/core/layout"

// SwapMap puts another map in force. So far only tests do.
func (a *Array) SwapMap(m *layout.Map) { a.layout.Store(m) }
