# A stand-in for a courier service: courier.sh TO COPIES FILE, with the key on
# its input. It is slow, the line is busy at every other call for one address,
# and it does not go to the harbours that stand in closed.txt.
sleep 0.2
mkdir -p outbox
if [ -e closed.txt ] && grep -qx "$1" closed.txt; then
    echo "courier: $1 is closed by a storm" >&2
    exit 69
fi
echo call >>"outbox/calls-$1"
if [ $(($(wc -l <"outbox/calls-$1") % 2)) -eq 1 ]; then
    echo "courier: the line is busy" >&2
    exit 75
fi
echo "courier: your key is $(cat)"
cp "$3" "outbox/$1-${3##*/}"
echo "$1: $2 x ${3##*/}" >>outbox/receipts.txt
echo "courier: took $2 of ${3##*/} for $1"
