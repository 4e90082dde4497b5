package server

import (
	"bytes"
	"encoding/csv"
	"io"
	"slices"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/api"
)

// listed makes a route of a list, which is also written whole as a file where a format is asked
// for: as it is told page by page under a name of the answer.
func (s *Server) listed(name string, list func(c *gin.Context) (any, error)) gin.HandlerFunc {
	plain := s.shared(list)
	return func(c *gin.Context) {
		if c.Request.URL.Query().Has("format") {
			s.exportList(c, name, list)
			return
		}
		plain(c)
	}
}

// exportList writes all pages of a list.
func (s *Server) exportList(c *gin.Context, name string, list func(c *gin.Context) (any, error)) {
	veil(c)
	format, err := formatOf(c.Request.URL.Query())
	if err != nil {
		s.fail(c, err)
		return
	}
	p := part{limit: api.MaxPage}
	next := func() (rows []jsontext.Value, more bool, err error) {
		c.Set(partKey, p)
		answer, err := list(c)
		if err != nil {
			return nil, false, err
		}
		rows, p.cursor, err = rowsIn(answer, name)
		return rows, p.cursor != "", err
	}
	rows, more, err := next()
	if err != nil {
		s.fail(c, err)
		return
	}
	headExport(c, name, format)
	var pen rawPen = &rawLines{c.Writer}
	if format == "csv" {
		pen = &rawTable{to: c.Writer}
	}
	s.writePages(c, func() (bool, error) {
		for _, row := range rows {
			if err := pen.write(row); err != nil {
				return false, err
			}
		}
		if more {
			return true, nil
		}
		return false, pen.end()
	}, func() error {
		rows, more, err = next()
		return err
	})
}

// rowsIn gives the entries of a list as they are written, and the cursor of the next page.
func rowsIn(answer any, name string) (rows []jsontext.Value, cursor string, err error) {
	text, err := written(nil, answer)
	if err != nil {
		return nil, "", err
	}
	parts := map[string]jsontext.Value{}
	if err := json.Unmarshal(text, &parts); err != nil {
		return nil, "", err
	}
	if err := json.Unmarshal(parts[name], &rows); err != nil {
		return nil, "", err
	}
	if next := parts["next_cursor"]; len(next) > 0 {
		err = json.Unmarshal(next, &cursor)
	}
	return rows, cursor, err
}

// rawPen writes entries as they are on the wire.
type rawPen interface {
	write(row jsontext.Value) error
	end() error
}

// rawLines writes JSON Lines.
type rawLines struct{ to io.Writer }

func (p *rawLines) write(row jsontext.Value) error {
	_, err := p.to.Write(append(slices.Clip(row), '\n'))
	return err
}

func (p *rawLines) end() error { return nil }

// rawTable writes CSV. Its columns are all members that any entry has, in the order in which they
// came first; those of an object have its name before theirs, as in counts.ready.
type rawTable struct {
	to      io.Writer
	columns []string
	at      map[string]int
	rows    [][]string
}

func (p *rawTable) write(row jsontext.Value) error {
	cells := make([]string, len(p.columns))
	err := flatten("", row, func(name, value string) {
		i, known := p.at[name]
		if !known {
			if p.at == nil {
				p.at = map[string]int{}
			}
			i = len(p.columns)
			p.at[name], p.columns = i, append(p.columns, name)
		}
		for len(cells) <= i {
			cells = append(cells, "")
		}
		cells[i] = value
	})
	p.rows = append(p.rows, cells)
	return err
}

func (p *rawTable) end() error {
	w := csv.NewWriter(p.to)
	w.UseCRLF = true
	if len(p.columns) > 0 {
		_ = w.Write(p.columns) // an error is told again at the end
	}
	for _, cells := range p.rows {
		_ = w.Write(append(cells, make([]string, len(p.columns)-len(cells))...))
	}
	w.Flush()
	return w.Error()
}

// flatten tells the members of a value: texts as they are, numbers with all their digits, lists as
// JSON.
func flatten(name string, value jsontext.Value, tell func(name, value string)) error {
	switch value.Kind() {
	case '{':
		d := jsontext.NewDecoder(bytes.NewReader(value))
		if _, err := d.ReadToken(); err != nil {
			return err
		}
		for d.PeekKind() != '}' {
			member, err := d.ReadToken()
			if err != nil {
				return err
			}
			of := member.String()
			if name != "" {
				of = name + "." + of
			}
			v, err := d.ReadValue()
			if err == nil {
				err = flatten(of, v, tell)
			}
			if err != nil {
				return err
			}
		}
		return nil
	case '"':
		var text string
		err := json.Unmarshal(value, &text)
		tell(name, text)
		return err
	case 'n':
		tell(name, "")
	default:
		tell(name, string(value))
	}
	return nil
}
