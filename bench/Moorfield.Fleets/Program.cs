using System.Diagnostics;
using System.Globalization;
using Moorfield.Core.Fleets;
using Moorfield.Core.Targets;
using Moorfield.Fleets;

// Makes the stores that bench/fleet measures: MACHINES FROM TO SEED STORE... Each snapshot is a week; those from FROM to before TO are stored. What
// is printed is the time of storing them in each store, from packages on: reading documents is not in it. Every batch goes into one store after the
// other, so that what else the machine does meanwhile meets all of them.
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
int[] numbers = [.. args.Take(4).Select(a => int.Parse(a, CultureInfo.InvariantCulture))];
int machines = numbers[0];
var world = new FleetWorld(numbers[3]);
var stores = args.Skip(4).Select(FleetStore.OpenOrCreate).ToList();
for (int week = numbers[1]; week < numbers[2]; week++)
{
    var watches = stores.ConvertAll(_ => new Stopwatch());
    var sums = stores.ConvertAll(_ => new FleetAdded(0, 0, 0, 0));
    for (int from = 0; from < machines; from += Batch)
    {
        var entries = Enumerable.Range(from, Math.Min(Batch, machines - from)).Select(m => world.Entry(m, week)).ToList();
        for (int i = 0; i < stores.Count; i++)
        {
            watches[i].Start();
            sums[i] += stores[i].Add(entries);
            watches[i].Stop();
        }
    }
    for (int i = 0; i < stores.Count; i++)
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"{week} {watches[i].Elapsed.TotalSeconds:F2} {args[4 + i]} {sums[i]}"));
}
foreach (var store in stores)
    store.Dispose();
