#!/bin/bash
# The nightly run of the harbour office of Marrowick: counts what the gauges sent, works out the surge, prints the tide book.
set -eu

note() {
    printf '%(%Y-%m-%d)T %s\n' -1 "$1" >> nightly.log
}

check_gauges() {
    local total=0 gauge name lines
    for gauge in gauges/*.txt; do
        name=${gauge##*/}
        mapfile -t lines < "$gauge"
        total=$((total + ${#lines[@]}))
        if [ "${#lines[@]}" -lt 96 ]; then
            note "${name%.txt} sent only ${#lines[@]} readings"
        fi
    done
    echo "gauges: $total readings"
}

check_gauges
./surge 22
python3 tidebook.py readings-20.csv table.txt > summary.txt
tail -n 1 summary.txt
