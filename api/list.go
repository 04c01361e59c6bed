package api

// List is one page of a list.
type List[T any] struct {
	Items []T    `json:"items" nullable:"false"`
	Next  string `json:"next,omitempty" doc:"Given as cursor it asks for the next page; left out on the last one"`
	Total *int64 `json:"total,omitempty" doc:"How many there are on all pages; told with the first one, of lists that are counted"`
}

// Counted gives how many there are on all pages; 0 where that was not told.
func (l List[T]) Counted() int {
	if l.Total == nil {
		return 0
	}
	return int(*l.Total)
}
