set -e
mkdir -p dist
{
  sed '/^# labels go here$/,$d' print.sh
  echo "labels='"
  cat labels.txt
  echo "'"
  sed '1,/^# labels go here$/d' print.sh
} > dist/print
chmod +x dist/print
echo "$(wc -l < labels.txt) labels"
