#!/bin/sh
case $PATH_INFO in
/plain) echo hello; exit ;;
/noise) head -c 3000000 /dev/zero | tr '\0' 'x' | fold -w 100 >&2 ;;
/fork) (setsid sleep 777 &) ; sleep 778 & ;;
/exit) exit 3 ;;
esac
echo "summing $QUERY_STRING" >&2
echo "Content-Type: text/plain"; echo "Status: 201 Created"; echo
echo "sum of $(cat | wc -c) $REQUEST_METHOD $PATH_INFO $SCRIPT_NAME"
