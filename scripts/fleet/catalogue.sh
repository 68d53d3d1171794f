#!/usr/bin/env bash
# Makes one catalogue of a collection on many machines with Slurm: an array of shards, each of which reads its share
# of the files, and behind it one job that merges them. A shard that fails is started again and goes on where it
# ended. All machines must see the collection and the folder of the catalogue under the same paths.
# usage: catalogue.sh DB SHARDS PLACE... [-- OPTION...]   options go to `operculum catalogue`, such as --digests
set -euo pipefail
[ $# -ge 3 ] || { sed -n '2,6p' "$0" >&2; exit 2; }
here=$(cd "$(dirname "$0")" && pwd)
database=$(realpath -m "$1") shards=$2
shift 2
places=() options=()
while [ $# -gt 0 ]; do
  [ "$1" = -- ] && { shift; options=("$@"); break; }
  places+=("$(realpath "$1")")
  shift
done
export FLEET_OPERCULUM=${FLEET_OPERCULUM:-$(command -v operculum)}
export FLEET_DATABASE=$database FLEET_SHARDS=$shards FLEET_FOLDER=$database.shards
mkdir -p "$FLEET_FOLDER"
printf '%s\0' "${places[@]}" >"$FLEET_FOLDER/places"
: >"$FLEET_FOLDER/options"
[ ${#options[@]} -eq 0 ] || printf '%s\0' "${options[@]}" >"$FLEET_FOLDER/options"
array=$(sbatch --parsable --export=ALL --requeue --array="1-$shards" --output="$FLEET_FOLDER/shard-%a.log" \
  --open-mode=append "$here/shard.sbatch")
merge=$(sbatch --parsable --export=ALL --dependency="afterok:$array" --kill-on-invalid-dep=yes \
  --output="$FLEET_FOLDER/merge.log" "$here/merge.sbatch")
echo "shards: job $array; merge: job $merge; logs: $FLEET_FOLDER"
