#!/bin/bash
# The nightly run of the harbour office of Marrowick: counts what the gauges sent, works out the surge, prints the tide book.
set -eu

name_of() {
    basename "$1" .txt
}

count_of() {
    cat "$1" | wc -l
}

stamp() {
    date +%Y-%m-%d
}

note() {
    echo "$(stamp) $1" >> nightly.log
}

check_gauges() {
    local total=0 gauge name count
    for gauge in gauges/*.txt; do
        name=$(name_of "$gauge")
        count=$(count_of "$gauge")
        total=$(expr "$total" + "$count")
        if [ "$count" -lt 96 ]; then
            note "$name sent only $count readings"
        fi
    done
    echo "gauges: $total readings"
}

check_gauges
./surge 22
python3 tidebook.py readings-20.csv table.txt > summary.txt
tail -n 1 summary.txt
