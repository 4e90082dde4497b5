package server

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/job"
)

// part is which part of a list is asked for. Every list is read in the same way: limit bounds
// a page, next_cursor of one page is the cursor of the next, and only its absence is the end.
type part struct {
	limit  int
	cursor string
}

// partKey is under what an export keeps which part of a list it asks for.
const partKey = "part"

// partIn reads which part of a list is asked for.
func partIn(c *gin.Context, wrong *[]job.FieldError) part {
	if p, exports := c.Get(partKey); exports {
		return p.(part)
	}
	return part{int(numberIn(c, wrong, "limit", api.DefaultPage, api.MaxPage)), c.Query("cursor")}
}

// partOf is partIn for a list that has no other parameters.
func partOf(c *gin.Context) (part, error) {
	var wrong []job.FieldError
	p := partIn(c, &wrong)
	return p, job.Wrong("the list was not read", wrong)
}

// badCursor is the error of a cursor that no page has told.
func badCursor(cursor string) job.FieldError {
	return job.FieldError{Field: "cursor", Message: fmt.Sprintf("%q is not a valid cursor; use the next_cursor of the page before, or leave it out to begin again", cursor)}
}

// number reads a cursor that is a number; 0 where none is given.
func (p part) number(wrong *[]job.FieldError) int64 {
	if p.cursor == "" {
		return 0
	}
	n, err := strconv.ParseInt(p.cursor, 10, 64)
	if err != nil || n < 1 {
		*wrong = append(*wrong, badCursor(p.cursor))
	}
	return n
}

// cutRest gives a page of a list of which one item more than the page holds was read, and the
// cursor of the next page.
func cutRest[T any](all []T, p part, cursor func(*T) string) (page []T, next string) {
	if len(all) > p.limit {
		all = all[:p.limit]
		next = cursor(&all[p.limit-1])
	}
	return append([]T{}, all...), next
}

// cut gives a page of a list that was read whole, and the cursor of the next page.
func cut[T any](all []T, p part, cursor func(*T) string) (page []T, next string, err error) {
	if p.cursor != "" {
		at := 0
		for at < len(all) && cursor(&all[at]) != p.cursor {
			at++
		}
		if at == len(all) {
			return nil, "", job.Wrong("the list was not read", []job.FieldError{badCursor(p.cursor)})
		}
		all = all[at+1:]
	}
	page, next = cutRest(all, p, cursor)
	return page, next, nil
}

// lineOf reads the cursor of a log: attempt.line, the last line that was read.
func lineOf(cursor string) (attempt, line int, ok bool) {
	first, second, _ := strings.Cut(cursor, ".")
	attempt, err1 := strconv.Atoi(first)
	line, err2 := strconv.Atoi(second)
	return attempt, line, err1 == nil && err2 == nil && attempt > 0 && line >= 0
}
