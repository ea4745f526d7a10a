package logic

// Which variable is decided on next.

// heap has the open variables, the most active first.
type heap struct {
	list  []int32
	index []int32 // by variable; -1 is not in it
	less  func(a, b int32) bool
}

func (h *heap) empty() bool { return len(h.list) == 0 }

func (h *heap) add(v int32) {
	for int(v) >= len(h.index) {
		h.index = append(h.index, -1)
	}
	if h.index[v] < 0 {
		h.index[v] = int32(len(h.list))
		h.list = append(h.list, v)
		h.up(v)
	}
}

func (h *heap) up(v int32) {
	i := h.index[v]
	for i > 0 && h.less(v, h.list[(i-1)/2]) {
		h.put(i, h.list[(i-1)/2])
		i = (i - 1) / 2
	}
	if i >= 0 {
		h.put(i, v)
	}
}

func (h *heap) put(i, v int32) { h.list[i], h.index[v] = v, i }

func (h *heap) pop() int32 {
	top, n := h.list[0], int32(len(h.list)-1)
	last := h.list[n]
	h.list, h.index[top] = h.list[:n], -1
	if n == 0 {
		return top
	}
	i := int32(0)
	for {
		child := 2*i + 1
		if child >= n {
			break
		}
		if child+1 < n && h.less(h.list[child+1], h.list[child]) {
			child++
		}
		if !h.less(h.list[child], last) {
			break
		}
		h.put(i, h.list[child])
		i = child
	}
	h.put(i, last)
	return top
}
