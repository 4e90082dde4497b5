module example.com/quay

go 1.26.0

require humblemule.example v0.0.0

replace humblemule.example => ../../..
