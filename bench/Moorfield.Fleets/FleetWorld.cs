using System.Globalization;
using System.Security.Cryptography;
using Moorfield.Core.Fleets;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Formats.Appx;

namespace Moorfield.Fleets;

/// <summary>A made-up fleet: every machine is the same whenever it is asked for.</summary>
internal sealed class FleetWorld(int seed)
{
    private const int Systems = 60, Frameworks = 40, Shipped = 70, Makers = 12, PerMaker = 6, Added = 230, MostAdded = 60;
    private const int MonthWeeks = 4, Rings = 4, FirstWeek = 26;
    private static readonly DateTimeOffset Start = new(2026, 1, 5, 8, 0, 0, TimeSpan.Zero);
    private readonly Dictionary<(string, int, int), FleetItem> _items = [];

    internal FleetEntry Entry(int machine, int week)
    {
        week += FirstWeek;
        var chance = new Random((seed * 1_000_003) + machine);
        int maker = machine % Makers, ring = chance.Next(Rings), lag = chance.Next(6), added = (int)(Math.Pow(chance.NextDouble(), 3) * MostAdded);
        bool cleaned = chance.Next(100) < 60;
        int month = Math.Max(0, week - ring) / MonthWeeks;
        var items = new List<FleetItem>(200);
        for (int i = 0; i < Systems; i++)
            items.Add(Item("Northlight.System", i, month, PackageRole.Component,
                PackageOrigin.System, HeldBy.Everyone, newcomers: true, blocked: false));
        for (int i = 0; i < Frameworks; i++)
        {
            if (i % 10 < 7 || i % 10 == ring + 6)
                items.Add(Item("Northlight.Runtime", i, i % 3 == 0 ? month : 0, PackageRole.Framework,
                    PackageOrigin.Shipped, HeldBy.Everyone, true, false));
        }
        for (int i = 0; i < Shipped; i++)
        {
            // Of a cleaned machine a brief took the first ones; some came back with an update.
            if (cleaned && i < 20 && chance.Next(100) >= 2 + (month > 0 ? 3 : 0))
                continue;
            items.Add(Item("Northlight.App", i, Release(i, week - lag), PackageRole.Application, PackageOrigin.Shipped,
                chance.Next(200) == 0 ? HeldBy.Some : HeldBy.Everyone, chance.Next(500) != 0, cleaned && i < 20));
        }
        for (int i = 0; i < PerMaker; i++)
            items.Add(Item($"Kestrelworks{maker}.Tool", i, Release(i, week - lag) / 3, PackageRole.Application,
                PackageOrigin.Maker, HeldBy.Everyone, true, false));
        foreach (int i in Enumerable.Range(0, added).Select(_ => (int)(chance.NextDouble() * chance.NextDouble() * Added)).Distinct())
            items.Add(Item("Larkfield.Extra", i, Release(i, week - lag), PackageRole.Application, PackageOrigin.Added,
                i % 2 == 0 ? HeldBy.Some : HeldBy.Everyone, false, false));
        string name = string.Create(CultureInfo.InvariantCulture, $"COUNTER-{machine:D6}");
        var read = new FleetMachine($"/srv/surveys/{name}.json", name,
                new Guid(seed, (short)(machine >> 16), (short)machine, new byte[8]).ToString("B"),
            "Windows 11 Pro 24H2", $"10.0.26100.{1000 + (month * 100)}", $"Kestrelworks {maker}", Start.AddDays(7 * week), [], [],
            [new FleetBucket([.. items])])
        {
            Product = "Windows 11 Pro",
            Site = $"Quay {machine % 40}",
            // Of two people, whose names are their machine's own, the first one has what some have.
            State = new MachineState($"clerk{machine:D6}\nrelief{machine:D6}",
                cleaned ? string.Join('\n', Enumerable.Range(0, 20).Select(i => $"Northlight.App{i}_5s2ajr5e6xvkm").Order(StringComparer.Ordinal))
                    : "",
                Guards(cleaned),
                _ => 1),
            Holders = [.. items.Where(i => i.HeldBy == HeldBy.Some).Select(i => (i, 1UL))],
        };
        return new FleetEntry(SHA256.HashData(BitConverter.GetBytes(((long)machine << 16) | (long)week)), read, default);
    }

    private static string Guards(bool areSet) => string.Join('\n', new[] { "Machine -", "Account -", "Account 0", "Account 1" }.Select(hive =>
        string.Join(' ', KnownGuards.All.Where(g => hive.StartsWith($"{g.Hive} ", StringComparison.Ordinal))
            .Select(g => $"{(areSet ? '+' : '-')}{g.Name}").Prepend(hive))));

    private static int Release(int app, int week) => Math.Max(0, week + (app % 4)) / (1 + (app % 4));

    private FleetItem Item(string name, int number, int version, PackageRole role, PackageOrigin origin, HeldBy held, bool newcomers, bool blocked)
    {
        var key = ($"{name}{number}", version, ((int)held * 4) + (newcomers ? 2 : 0) + (blocked ? 1 : 0));
        if (!_items.TryGetValue(key, out var item))
        {
            _items[key] = item = new FleetItem(
                PackageFullName.TryParse($"{key.Item1}_{version + 1}.0.0.0_x64__5s2ajr5e6xvkm", out var full)
                    ? full : throw new FormatException(key.Item1),
                $"{name[(name.IndexOf('.', StringComparison.Ordinal) + 1)..]} {number}", "", name.Split('.')[0], null,
                role, origin, 1_000_000L + number,
                false, number % 5 == 0, true, held, newcomers, blocked, role == PackageRole.Component ? PackageStanding.Essential
                    : number % 3 == 0 ? PackageStanding.Costly : PackageStanding.Free);
        }
        return item;
    }
}
