// Package schedule has wall clocks and calendars: dates, instants and the hours of the week.
package schedule
