package inventory

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Where says which devices are meant: for each field by the name that filters have for it, the values of which a device has to have one. The least
// of AtLeast stands alone, and IsSet has "true". The zero value means all.
type Where map[string][]string

// Query is a list of devices as somebody wants it: which devices, and in which order. The zero value means all, by address.
type Query struct {
	Where   Where
	Text    string // words that must all occur in what is known of a device
	View    string // the saved filter over which this one is laid; "" for none
	Sort    string // the name of a field; "" for the address
	Descend bool
}

// Parameter is one thing that a query can say.
type Parameter struct {
	Name    string
	Doc     string
	Type    Type
	Several bool     // it may be given again
	Choices []string // nil for any value
	Most    int      // of a text in characters, of a number itself; 0 for no bound
}

const (
	maxText     = 200
	maxStrength = 1000
)

// Parameters gives all that a query can say, in the order of the catalogue.
func Parameters() []Parameter {
	var list []Parameter
	for _, f := range Filtered() {
		p := Parameter{Name: f.Param(), Doc: "Only devices " + f.Only, Type: f.Type, Choices: f.Choices, Several: f.Filter == OneOf}
		if f.Type == Number {
			p.Most = maxStrength
		}
		list = append(list, p)
	}
	return append(list,
		Parameter{Name: "text", Doc: "Words that must all occur in what is known of the device", Type: Text, Most: maxText},
		Parameter{Name: "view", Doc: "The filter that is saved as the view of this name; what is given besides takes the place of what it says", Type: Text, Most: maxText},
		Parameter{Name: "sort", Doc: "The field that is sorted by: the address where left out", Type: Text, Choices: Names(Sorted())},
		Parameter{Name: "descend", Doc: "Sort downwards", Type: Flag},
	)
}

// FaultyParameter says what is wrong with a part of a query.
type FaultyParameter struct {
	Name, Value string
	Reason      string // what is wrong, such as "there is no ..."
	Unknown     bool   // no query has a part of that name
}

func (e *FaultyParameter) Error() string {
	if e.Unknown {
		return e.Reason
	}
	return e.Name + ": " + e.Reason
}

// ParseQuery reads a query from the names and values of an address. A *FaultyParameter says what is not understood: an unknown name among others.
func ParseQuery(values url.Values) (Query, error) {
	q := Query{Where: Where{}}
	known := Parameters()
	for _, name := range slices.Sorted(maps.Keys(values)) {
		i := slices.IndexFunc(known, func(p Parameter) bool { return p.Name == name })
		if i < 0 {
			names := make([]string, len(known))
			for i, p := range known {
				names[i] = p.Name
			}
			return q, &FaultyParameter{Name: name, Reason: fmt.Sprintf("devices have no %q: want one of %s", name, strings.Join(names, ", ")), Unknown: true}
		}
		given, err := known[i].read(values[name])
		if err != nil {
			return q, err
		}
		q.set(name, given)
	}
	return q, nil
}

// read checks the values of a parameter. What says nothing is left out.
func (p Parameter) read(given []string) ([]string, error) {
	if p.Several && p.Choices != nil {
		given = strings.Split(strings.Join(given, ","), ",") // in addresses that people read, as no such value has a comma in it
	}
	given = slices.DeleteFunc(slices.Clone(given), func(v string) bool { return v == "" })
	if !p.Several && len(given) > 1 {
		given = given[:1]
	}
	for i, value := range given {
		switch {
		case p.Choices != nil && !slices.Contains(p.Choices, value):
			return nil, &FaultyParameter{Name: p.Name, Value: value, Reason: fmt.Sprintf("there is no %q: want one of %s", value, strings.Join(p.Choices, ", "))}
		case p.Type == Flag:
			set, err := strconv.ParseBool(value)
			if err != nil {
				return nil, &FaultyParameter{Name: p.Name, Value: value, Reason: fmt.Sprintf("%q is neither true nor false", value)}
			}
			if !set {
				return nil, nil
			}
			given[i] = "true"
		case p.Type == Number:
			n, err := strconv.Atoi(value)
			if err != nil || n < 0 || n > p.Most {
				return nil, &FaultyParameter{Name: p.Name, Value: value, Reason: fmt.Sprintf("%q is no number from 0 to %d", value, p.Most)}
			}
			if n == 0 {
				return nil, nil
			}
		case p.Most > 0 && len([]rune(value)) > p.Most:
			return nil, &FaultyParameter{Name: p.Name, Value: value, Reason: fmt.Sprintf("it has more than %d characters", p.Most)}
		}
	}
	return given, nil
}

func (q *Query) set(name string, given []string) {
	if len(given) == 0 {
		return
	}
	switch name {
	case "text":
		q.Text = given[0]
	case "view":
		q.View = given[0]
	case "sort":
		q.Sort = given[0]
	case "descend":
		q.Descend = true
	default:
		q.Where[name] = given
	}
}

// Over lays a query over another: what it says takes the place of what that says.
func (q Query) Over(under Query) Query {
	over := Query{Where: maps.Clone(under.Where), Text: under.Text, Sort: under.Sort, Descend: under.Descend || q.Descend}
	if over.Where == nil {
		over.Where = Where{}
	}
	maps.Copy(over.Where, q.Where)
	if q.Text != "" {
		over.Text = q.Text
	}
	if q.Sort != "" {
		over.Sort = q.Sort
	}
	return over
}
