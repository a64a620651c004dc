"""The power is cut: what a disk may hold then is built from a record of all that a story did to files, and recovered.

python -m tests.power.cutting                       # every story, on one and on two volumes
python -m tests.power.cutting --story NAME --seed N --states 500
"""
