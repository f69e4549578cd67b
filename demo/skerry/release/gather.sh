set -e
mkdir -p out
for p in booking sailings boarding-gate notices; do cp ../services/$p/dist/package.pack out/$p.pack; done
for p in passenger-web crew-tablet harbour-board; do cp ../apps/$p/dist/package.pack out/$p.pack; done
cp ../tools/label-printer/dist/print out/print
cp -r ../handbook/site out/handbook
ls ../data/chart-tiles/tiles | wc -l | tr -d ' ' > out/tiles.count
(cd out && find . -type f ! -name SUMS | LC_ALL=C sort | xargs cksum > SUMS)
echo "$(wc -l < out/SUMS | tr -d ' ') files"
