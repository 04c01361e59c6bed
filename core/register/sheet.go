package register

import (
	"errors"
	"fmt"
	"io"

	"github.com/xuri/excelize/v2"
)

const (
	// maxUnpacked bounds a workbook once it is unpacked, in bytes: a small file can hold a very large one.
	maxUnpacked = 512 << 20
	// maxInMemory bounds how much of one part of it is held in memory, in bytes; the rest goes by way of a temporary file.
	maxInMemory = 16 << 20
)

// sheet is the first sheet of a workbook.
type sheet struct {
	book *excelize.File
	rows *excelize.Rows
	line int
	want int // columns, as the headings have them
}

func openSheet(in io.Reader) (table, error) {
	book, err := excelize.OpenReader(in, excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxInMemory})
	if err != nil {
		return nil, fmt.Errorf("looks like a workbook and cannot be read as one (%w): save it as .xlsx, or as CSV", err)
	}
	names := book.GetSheetList()
	if len(names) == 0 {
		return nil, errors.Join(errors.New("the workbook has no sheet"), book.Close())
	}
	rows, err := book.Rows(names[0])
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the sheet %q cannot be read: %w", names[0], err), book.Close())
	}
	return &sheet{book: book, rows: rows}, nil
}

// next gives the next row that is not empty. A workbook leaves out empty cells at the end of a row.
func (s *sheet) next() (int, []string, error) {
	for s.rows.Next() {
		s.line++
		record, err := s.rows.Columns()
		if err != nil {
			return s.line, nil, err
		}
		if len(record) == 0 {
			continue
		}
		if s.want == 0 {
			s.want = len(record)
		}
		for len(record) < s.want {
			record = append(record, "")
		}
		return s.line, record, nil
	}
	if err := s.rows.Error(); err != nil {
		return s.line, nil, err
	}
	return s.line, nil, io.EOF
}

// Close takes the temporary files away.
func (s *sheet) Close() error { return errors.Join(s.rows.Close(), s.book.Close()) }
