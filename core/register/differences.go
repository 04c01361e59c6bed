package register

// Difference is one column in which two forms of an entry differ.
type Difference struct {
	Field        string // heading of the column
	Was, Becomes string
}

// Differences gives the columns in which an entry differs from what it becomes, in the order of the columns.
func Differences(was, becomes Entry) []Difference {
	var list []Difference
	a, b := columnsOf(was), columnsOf(becomes)
	for i, field := range Columns {
		if a[i] != b[i] {
			list = append(list, Difference{field, a[i], b[i]})
		}
	}
	for _, field := range extraColumns([]Entry{was, becomes}) {
		if was.Extra[field] != becomes.Extra[field] {
			list = append(list, Difference{field, was.Extra[field], becomes.Extra[field]})
		}
	}
	return list
}
