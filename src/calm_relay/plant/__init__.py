"""The plan resolved once: lines, stations, banks, transfer and limits as frozen records that everything above reads.

No record here holds a job, a plan, a node or a card. Electrical figures, what hangs on a wall, and words stand in records apart: a
result that is kept by what it reads is not made anew for a name or a weight.
"""
