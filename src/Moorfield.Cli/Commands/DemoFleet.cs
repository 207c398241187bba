using System.Globalization;
using Moorfield.Core.Storage;
using Moorfield.StandIn;

namespace Moorfield.Cli.Commands;

/// <summary>
/// <c>demo fleet</c>: forty made-up machines over six weeks. A ring is done, the next one in part; two updates come, and an app of the machines'
/// maker. Of each kind of state a system is laid out and read; what is written is that, under the names of its machines.
/// </summary>
internal static class DemoFleet
{
    internal const int Weeks = 6;
    private const int Offices = 8, Counters = 26, HarbourCounters = 16, Bridges = 6;
    private static readonly DateTimeOffset Start = new(2026, 10, 12, 6, 0, 0, TimeSpan.Zero);
    private static readonly string[] Removed =
    [
        "Northlight.Headlines", "Pennywhistle.Patience", "Pennywhistle.Whist", "Larkfield.Crossword", "Larkfield.Anagrams", "Larkfield.Recipes",
        "Kestrelworks.Welcome",
    ];

    /// <param name="Updates">How many updates its system has had: of a month, of a release.</param>
    /// <param name="Cleaned">True if its ring's brief was carried out.</param>
    /// <param name="Counter">True if that is the one of the counters.</param>
    /// <param name="Tour">True if it has the maker's new app.</param>
    private sealed record State(bool IsOtherMaker, int Updates, bool Cleaned, bool Counter, bool Tour);

    private sealed record Machine(string Name, int Number, string Site)
    {
        internal bool IsOffice => Name.StartsWith("OFFICE", StringComparison.Ordinal);

        internal bool IsBridge => Name.StartsWith("BRIDGE", StringComparison.Ordinal);

        internal bool IsHarbourCounter => !IsOffice && !IsBridge && Site == "Harbour";

        // Three of the counters: Windows refused it on two, and one is in a drawer.
        internal bool Fails => IsHarbourCounter && Number is 5 or 12;

        internal bool IsAway => IsHarbourCounter && Number == 9;
    }

    private static IEnumerable<Machine> Machines =>
        Enumerable.Range(1, Offices).Select(i => new Machine($"OFFICE-{i:D2}", i, "Harbour"))
            .Concat(Enumerable.Range(1, Counters).Select(i => new Machine($"COUNTER-{i:D2}", i, i <= HarbourCounters ? "Harbour" : "Island")))
            .Concat(Enumerable.Range(1, Bridges).Select(i => new Machine($"BRIDGE-{i:D2}", i, "")));

    internal static Command Create()
    {
        var folder = new Argument<string>("DIR") { Description = "Folder to make" };
        var command = new Command("fleet", """
            Makes the inventories of forty made-up PCs over six weeks, a folder a week, and the briefs of three rings in 'rings'. In that time
            the first ring is done, the second one not everywhere; two updates come, and an app of the machines' maker.

            Example:
              moorfield demo fleet /tmp/fleet
            """)
        { folder };
        command.Handle(call =>
        {
            string place = Path.GetFullPath(call.GetRequiredValue(folder));
            if (Path.Exists(place))
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{place} is there already. Delete it, or name another folder.");
            Make(place);
            call.Console.Line($"{place} holds the inventories of {Machines.Count()} machines over {Weeks} weeks, and the briefs of three rings.");
            call.Console.Line($"{TextFormat.Command("fleet", "add", place + ".fleet", Path.Combine(place, "week-1"))} begins a store of them.");
            return ExitCode.Done;
        });
        return command;
    }

    /// <summary>Makes the folder.</summary>
    internal static void Make(string folder)
    {
        string work = folder + ".making", rings = Path.Combine(work, "rings");
        try
        {
            Directory.CreateDirectory(rings);
            World.WriteRings(rings);
            var seen = Enumerable.Range(1, Weeks).SelectMany(w => Machines.Where(m => IsSeen(m, w)).Select(m => (Week: w, Machine: m)))
                .ToLookup(s => StateOf(s.Machine, s.Week));
            var states = seen.Select(s => s.Key).Index().ToList();
            foreach (int week in Enumerable.Range(1, Weeks))
                Directory.CreateDirectory(Path.Combine(work, $"week-{week}"));
            Parallel.ForEach(states, state => Write(work, $"system-{state.Index}", state.Item, [.. seen[state.Item]]));
            Directory.Move(work, folder);
        }
        catch (AggregateException e) when (e.InnerExceptions[0] is MoorfieldException or DllNotFoundException)
        {
            throw e.InnerExceptions[0] as MoorfieldException ?? new MoorfieldException(ErrorKind.Failed, e.InnerExceptions[0].Message, e);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{folder} cannot be made. {e.Message}", e);
        }
        finally
        {
            if (Directory.Exists(work))
                Directory.Delete(work, recursive: true);
        }
    }

    private static bool IsSeen(Machine machine, int week) =>
        !(machine.IsAway && week > 2) && !(machine.Name is "OFFICE-07" or "COUNTER-21" && week == 4);

    private static State StateOf(Machine machine, int week)
    {
        bool cleaned = (machine.IsOffice && week >= 2) || (machine.IsHarbourCounter && !machine.Fails && !machine.IsAway && week >= 4);
        return new State(
            machine.IsBridge, machine.IsOffice && week >= 6 ? 2 : week >= 3 ? 1 : 0, cleaned, cleaned && !machine.IsOffice,
            week >= 5 && !machine.IsBridge);
    }

    /// <summary>Lays a system out, reads it, and writes it for each machine and week at which it is like that.</summary>
    private static void Write(string folder, string name, State state, IReadOnlyList<(int Week, Machine Machine)> seen)
    {
        string root = Path.Combine(folder, name);
        VolumeBuilder.Build(WorldOf(state), root);
        using (var target = Target.Open(root, new WriteInterceptor()))
        {
            var system = target.Read([null], KnownGuards.All)[0];
            foreach (var (week, machine) in seen)
            {
                NewFile.Write(Path.Combine(folder, $"week-{week}", NameOf(machine, week) + ".saved"),
                    SavedInventory.Write(target, [As(system, machine, week)]));
            }
        }
        Directory.Delete(root, recursive: true);
    }

    private static World WorldOf(State state)
    {
        var world = World.Load();
        var gone = Removed.Append("Northlight.Weather").Where(n => n != "Northlight.Weather" || state.Counter).ToHashSet(StringComparer.Ordinal);
        if (state.Updates == 2)
            world = world.Updated();
        var packages = world.Packages.Select(p => state.Updates == 1 && p.Name is "Northlight.Mail" or "Northlight.Pictures" or "Northlight.Music"
            ? p with { Version = NextVersion(p.Version) } : p).ToList();
        if (state.Tour)
            packages.Add(packages.First(p => p.Name == "Kestrelworks.Welcome") with
            {
                Name = "Kestrelworks.Tour", Display = "Kestrelworks Tour", Version = "1.0.0.0", About = "Shows what is new on this PC.",
            });
        var blocked = state.Cleaned ? packages.Where(p => gone.Contains(p.Name)).Select(p => new WorldFamily(p.Name, p.By)).ToList() : [];
        packages.RemoveAll(p => (state.Cleaned && gone.Contains(p.Name)) || (state.IsOtherMaker && p.By == "kestrelworks"));
        var names = packages.Select(p => p.Name).ToHashSet(StringComparer.Ordinal);
        return world with
        {
            Manufacturer = state.IsOtherMaker ? "Tollgate Machines" : world.Manufacturer,
            Revision = world.Revision + (state.Updates == 1 ? 147u : 0),
            SystemFiles = 12,
            Packages = [.. packages],
            Blocked = [.. world.Blocked, .. blocked],
            Leftovers = [],
            Programs = [],
            FirstSignIn = [],
            Chosen = [.. world.Chosen.Where(c => c.Package is { } package && names.Contains(package))],
            Pins = [.. world.Pins.Where(names.Contains)],
        };
    }

    private static string NextVersion(string version)
    {
        string[] parts = version.Split('.');
        return $"{parts[0]}.{int.Parse(parts[1], CultureInfo.InvariantCulture) + 1}.{string.Join('.', parts[2..])}";
    }

    // One was a spare until it was given out.
    private static string NameOf(Machine machine, int week) => machine.Name == "BRIDGE-06" && week <= 2 ? "SPARE-01" : machine.Name;

    private static SystemSnapshot As(SystemSnapshot system, Machine machine, int week)
    {
        int kind = machine.IsOffice ? 1 : machine.IsBridge ? 3 : 2;
        // Two counters were made from one copy of a system.
        int copied = machine.Name == "COUNTER-26" ? machine.Number - 1 : machine.Number;
        return system with
        {
            Computer = NameOf(machine, week),
            Name = NameOf(machine, week),
            Site = machine.Site,
            MachineId = $"7d0c5a52-31e4-4c7a-9c1f-0d6a4e5b{kind}{copied:D3}",
            FirmwareId = $"5a170000-31e4-4c7a-9c1f-0d6a4e5b{kind}{machine.Number:D3}",
            AsOf = Start.AddDays(7 * (week - 1)).AddMinutes((10 * kind) + machine.Number),
            // What few people have.
            Packages = [.. system.Packages.Where(p => p.FullName.Name != "GannetRowe.TideTables" || machine.Number % 3 == 0)],
            HandOvers = [.. RunOf(machine, week) is { } run ? new[] { run } : []],
        };
    }

    private static HandOverRecord? RunOf(Machine machine, int week)
    {
        if (machine.IsOffice && week >= 2)
            return new HandOverRecord("41f0c6a29b7d5e83", "ring-1-office.brief.yaml", Start.AddDays(3).AddMinutes(machine.Number), 0,
                "moorfield: done: 7 families.", "");
        if (!machine.IsHarbourCounter || machine.IsAway || week < 4)
            return null;
        return machine.Fails
            ? new HandOverRecord("9c03d75e6a1842bf", "ring-2-harbour.brief.yaml", Start.AddDays(17).AddMinutes(machine.Number), 1,
                "moorfield: failed: Windows refused Headlines (0x80073CFA).", "")
            : new HandOverRecord("9c03d75e6a1842bf", "ring-2-harbour.brief.yaml", Start.AddDays(17).AddMinutes(machine.Number), 0,
                "moorfield: done: 8 families.", "");
    }
}
