# A stand-in for a courier service: courier.sh CHANNEL COPIES FILE, with the
# key on its input. It is slow, and the line is busy at every other call.
sleep 0.2
mkdir -p outbox
echo call >>outbox/calls
if [ $(($(wc -l <outbox/calls) % 2)) -eq 1 ]; then
    echo "courier: the line is busy" >&2
    exit 75
fi
echo "courier: your key is $(cat)"
cp "$3" "outbox/$1-${3##*/}"
echo "$1: $2 x ${3##*/}" >>outbox/receipts.txt
echo "courier: took $2 of ${3##*/} for $1"
