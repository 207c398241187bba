using System.Diagnostics;
using System.Globalization;
using Moorfield.Core.Fleets;
using Moorfield.Core.Targets;
using Moorfield.Fleets;

// Makes the stores that bench/fleet measures: STORE MACHINES SNAPSHOTS SEED. Each snapshot is a week; what is printed is the time of storing them,
// from packages on: reading documents is not in it.
// read STORE prints how long the parts of reading one take.
const int Batch = 2000;
if (args[0] == "read")
{
    for (int i = 0; i < 3; i++)
    {
        var clock = Stopwatch.StartNew();
        using var read = FleetStore.TryOpen(args[1])!;
        var reading = read.Read(OpenOptions.Default);
        var first = clock.Elapsed;
        int packages = FleetPackage.Of(reading.Machines).Length;
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"read {first.TotalSeconds:F2} s, {packages} packages counted {clock.Elapsed.TotalSeconds:F2} s"));
    }
    return;
}
int machines = int.Parse(args[1], CultureInfo.InvariantCulture), snapshots = int.Parse(args[2], CultureInfo.InvariantCulture);
var world = new FleetWorld(int.Parse(args[3], CultureInfo.InvariantCulture));
using var store = FleetStore.OpenOrCreate(args[0]);
for (int week = 0; week < snapshots; week++)
{
    var watch = new Stopwatch();
    var sum = new FleetAdded(0, 0, 0, 0);
    long packages = 0;
    for (int from = 0; from < machines; from += Batch)
    {
        var entries = Enumerable.Range(from, Math.Min(Batch, machines - from)).Select(m => world.Entry(m, week)).ToList();
        packages += entries.Sum(e => e.Machine.Buckets[0].Items.Length);
        watch.Start();
        sum += store.Add(entries);
        watch.Stop();
    }
    Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
        $"week {week}: {machines} machines of {packages / machines} packages stored in {watch.Elapsed.TotalSeconds:F2} s: {sum}"));
}
