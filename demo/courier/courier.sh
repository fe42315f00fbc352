# A stand-in for a courier service: courier.sh CHANNEL COPIES FILE, with the
# key on its input.
echo "courier: your key is $(cat)"
mkdir -p outbox
cp "$3" "outbox/$1-${3##*/}"
echo "$1: $2 x ${3##*/}" >>outbox/receipts.txt
echo "courier: took $2 of ${3##*/} for $1"
