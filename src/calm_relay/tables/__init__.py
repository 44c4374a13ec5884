"""CSV tables of unknown style: sheets of cells, times of rows, numbers, gaps. Nothing here knows what the numbers are."""
