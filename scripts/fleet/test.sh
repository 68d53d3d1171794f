#!/usr/bin/env bash
# Starts a real Slurm of one machine (slurm-wlm, munge; as root), makes a catalogue of the demo data in four shards with
# catalogue.sh, one of which fails at first, and compares it with one made directly. usage: test.sh OPERCULUM FOLDER
set -euo pipefail
operculum=$(realpath -e "$1") collection=$(realpath -e "$2")
cd "$(dirname "$0")"
for program in slurmctld slurmd munged sbatch; do
  if ! command -v $program >/dev/null && [ ! -x /usr/sbin/$program ]; then
    echo "SKIPPED: $program is not installed (slurm-wlm, munge)"
    exit 0
  fi
done
[ "$(id -u)" -eq 0 ] || { echo "SKIPPED: starting Slurm needs root"; exit 0; }
export PATH=$PATH:/usr/sbin
work=$(mktemp -d)
host=$(hostname -s)
pids=()
finish() {
  [ ${#pids[@]} -eq 0 ] || kill "${pids[@]}" 2>/dev/null || true
  wait 2>/dev/null || true
  rm -rf "$work"
}
trap finish EXIT
mkdir -p "$work"/{state,spool,run}
[ -s /etc/munge/munge.key ] || { dd if=/dev/urandom bs=1024 count=1 of=/etc/munge/munge.key 2>/dev/null; chown munge: /etc/munge/munge.key; chmod 400 /etc/munge/munge.key; }
mkdir -p /run/munge && chown munge: /run/munge
if ! munge -n >/dev/null 2>&1; then
  runuser -u munge -- munged --foreground --force >"$work/munge.log" 2>&1 &
  pids+=($!)
fi
export SLURM_CONF=$work/slurm.conf
cat >"$SLURM_CONF" <<CONF
ClusterName=saltmarsh
SlurmctldHost=$host(127.0.0.1)
SlurmUser=root
SlurmctldPort=26817
SlurmdPort=26818
AuthType=auth/munge
StateSaveLocation=$work/state
SlurmdSpoolDir=$work/spool
SlurmctldPidFile=$work/run/ctld.pid
SlurmdPidFile=$work/run/d.pid
SlurmctldLogFile=$work/ctld.log
SlurmdLogFile=$work/d.log
ProctrackType=proctrack/linuxproc
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_CPU
SchedulerParameters=batch_sched_delay=0
ReturnToService=2
MailProg=/bin/true
NodeName=$host NodeAddr=127.0.0.1 CPUs=$(nproc) State=UNKNOWN
PartitionName=all Nodes=ALL Default=YES MaxTime=INFINITE State=UP
CONF
slurmctld -D >"$work/ctld.out" 2>&1 &
pids+=($!)
slurmd -D >"$work/d.out" 2>&1 &
pids+=($!)
for _ in $(seq 60); do
  sinfo -h -o %T 2>/dev/null | grep -q idle && break
  sleep 0.5
done
sinfo -h -o %T 2>/dev/null | grep -q idle || { echo "SKIPPED: Slurm does not start here:"; tail -5 "$work/ctld.log" "$work/d.log"; exit 0; }

# The second shard fails at its first start.
cat >"$work/operculum" <<STAND_IN
#!/usr/bin/env bash
case "\$*" in
  *shard-2.db*--shard*) [ -e "$work/failed" ] || { touch "$work/failed"; exit 3; } ;;
esac
exec "$operculum" "\$@"
STAND_IN
chmod +x "$work/operculum"
FLEET_OPERCULUM=$work/operculum ./catalogue.sh "$work/fleet.db" 4 "$collection"
for _ in $(seq 600); do  # Slurm lets two minutes pass before it starts a job again
  [ -z "$(squeue -h)" ] && break
  sleep 0.5
done
[ -e "$work/failed" ] || { echo "FAILED: no shard was made to fail"; exit 1; }
"$operculum" catalogue "$work/direct.db" "$collection" >/dev/null || true
everything() { "$operculum" find --catalogue "$1" --match '*' --json | grep -v '"totals"' | sort; }
fleet=$(everything "$work/fleet.db") direct=$(everything "$work/direct.db")
if [ -n "$fleet" ] && [ "$fleet" = "$direct" ]; then
  echo "PASSED: four shards, one of them started again, give the same catalogue"
else
  echo "FAILED: the catalogues differ"
  tail -n 5 "$work"/fleet.db.shards/*.log
  exit 1
fi
