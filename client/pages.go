package client

import (
	"context"
	"iter"
	"net/url"
	"strconv"

	"humblemule.example/api"
)

// pages reads a list page after page: list reads the page at a cursor, empty for the first,
// and tells the next one, empty at the end.
func pages[T any](list func(cursor string) ([]T, string, error)) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for cursor := ""; ; {
			page, next, err := list(cursor)
			for _, item := range page {
				if !yield(item, nil) {
					return
				}
			}
			if err != nil {
				var none T
				yield(none, err)
				return
			}
			if next == "" {
				return
			}
			cursor = next
		}
	}
}

// everyPage reads a list whole, by pages of the largest size.
func everyPage[T any](ctx context.Context, list func(ctx context.Context, p api.Part) ([]T, string, error)) iter.Seq2[T, error] {
	return pages(func(cursor string) ([]T, string, error) {
		return list(ctx, api.Part{Limit: api.MaxPage, Cursor: cursor})
	})
}

// Collect gathers all that an iterator of this package brings. After an error it gives what
// came before it.
func Collect[T any](all iter.Seq2[T, error]) (items []T, err error) {
	for item, err := range all {
		if err != nil {
			return items, err
		}
		items = append(items, item)
	}
	return items, nil
}

// First gathers the first n items of an iterator, or fewer where there are no more.
func First[T any](n int, all iter.Seq2[T, error]) (items []T, err error) {
	if n <= 0 {
		return nil, nil
	}
	for item, err := range all {
		if err != nil {
			return items, err
		}
		if items = append(items, item); len(items) == n {
			break
		}
	}
	return items, nil
}

// partOf writes which part of a list is asked for as a query.
func partOf(p api.Part) url.Values {
	q := url.Values{}
	if p.Limit != 0 {
		q.Set("limit", strconv.Itoa(p.Limit))
	}
	if p.Cursor != "" {
		q.Set("cursor", p.Cursor)
	}
	return q
}
