using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Removing, undoing and compacting inside an image with four editions, checked by wimlib-imagex.</summary>
public sealed class ImageTests : IDisposable
{
    private const string Staged = @"Program Files\WindowsApps";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly string _path;
    private readonly byte[] _original;

    public ImageTests()
    {
        _path = Demo.CopyImageTo(_folder);
        _bench = new Bench(_path, _folder["vault"]);
        _original = File.ReadAllBytes(_path);
    }

    public void Dispose() => _folder.Dispose();

    private string[] Names(int edition) => [.. _bench.ReadAll()[edition - 1].Packages.Where(p => p.Newcomers).Select(p => p.DisplayName)];

    /// <summary>What wimlib-imagex says of an edition, without what moves when contents are written anew.</summary>
    private Dictionary<string, string> Details(int edition) =>
        WimSource.Details(_path, edition).ToDictionary(d => d.Key, d => string.Join('\n', d.Value.Split('\n')
        .Where(l => !l.StartsWith("Reference Count", StringComparison.Ordinal) && !l.StartsWith("Offset", StringComparison.Ordinal)
            && !l.StartsWith("Compressed", StringComparison.Ordinal))));

    private string[] Differing(Dictionary<string, string> before, int edition)
    {
        var after = Details(edition);
        return [.. before.Keys.Union(after.Keys).Where(k => before.GetValueOrDefault(k) != after.GetValueOrDefault(k)).Order(StringComparer.Ordinal)];
    }

    [Fact]
    public void Every_edition_is_a_system_of_its_own()
    {
        var systems = _bench.ReadAll();
        systems.Select(s => s.Name).ShouldBe(["Counter Home", "Counter Pro", "Counter Office", "Counter Twin"]);
        systems.Select(s => s.EditionNumber).ShouldBe([1, 2, 3, 4]);
        systems[0].Product.ShouldBe("Windows 11 Home");
        Names(2).ShouldContain("Weather");
        Names(2).ShouldContain("Larkfield Crossword");
        Names(3).ShouldNotContain("Larkfield Crossword");
        systems.ShouldAllBe(s => s.Notes.IsEmpty && s.Accounts.IsEmpty);
    }

    [Fact]
    public void A_removal_over_all_editions_is_one_run_and_changes_nothing_else()
    {
        var before = Details(2);
        _bench.Remove("Weather", "newcomers").Failures.ShouldBeEmpty();
        WimSource.Verify(_path);
        for (int edition = 1; edition <= 4; edition++)
            Names(edition).ShouldNotContain("Weather");
        _bench.Points().ShouldHaveSingleItem().Point.Packages.Length.ShouldBe(4);
        string weather = Demo.FullName("Northlight.Weather");
        string family = weather[..weather.IndexOf('_', StringComparison.Ordinal)];
        Differing(before, 2).Where(p => !p.Contains(family, StringComparison.Ordinal)).ShouldBe(
            ["/ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd", "/Windows/System32/config/SOFTWARE"]);
    }

    [Fact]
    public void The_changed_hive_is_read_by_another_program()
    {
        _bench.Remove("Weather", "newcomers", editions: "2");
        WimSource.Imagex("extract", _path, "2", "/Windows/System32/config/SOFTWARE", $"--dest-dir={_folder.Path}");
        string keys = Tool.Read("hivexregedit", "--export", _folder["SOFTWARE"], @"\" + HiveEdit.Store);
        keys.ShouldContain($@"\Deprovisioned\{Demo.Family("Northlight.Weather")}]");
        keys.ShouldNotContain($@"\Applications\{Demo.FullName("Northlight.Weather")}]");
    }

    [Fact]
    public void Undoing_the_last_run_gives_the_same_bytes_back()
    {
        int point = _bench.Remove("Weather,Calculator", "newcomers").Point!.Value;
        File.ReadAllBytes(_path).ShouldNotBe(_original);
        _bench.PlanUndo(point).Rewind.ShouldNotBeNull();
        _bench.Undo(point).Failures.ShouldBeEmpty();
        File.ReadAllBytes(_path).ShouldBe(_original);
        _bench.Points()[0].State.ShouldBe(PointState.Undone);
    }

    [Fact]
    public void An_undo_by_going_back_can_itself_be_undone()
    {
        int point = _bench.Remove("Weather", "newcomers").Point!.Value;
        int undo = _bench.Undo(point).Point!.Value;
        _bench.Undo(undo).Failures.ShouldBeEmpty();
        WimSource.Verify(_path);
        Names(2).ShouldNotContain("Weather");
    }

    [Fact]
    public void An_older_run_is_undone_change_by_change()
    {
        var original = Details(2);
        int older = _bench.Remove("Weather", "newcomers").Point!.Value;
        _bench.Remove("Calculator", "newcomers");
        var plan = _bench.PlanUndo(older);
        plan.Rewind.ShouldBeNull();
        plan.Conflicts.ShouldBeEmpty();
        _bench.Undo(older).Failures.ShouldBeEmpty();
        WimSource.Verify(_path);
        Names(2).ShouldContain("Weather");
        Names(2).ShouldNotContain("Calculator");
        // Every entry of the package as it was: descriptors, times, names, contents.
        string weather = Demo.Family("Northlight.Weather")["Northlight.".Length..];
        Differing(original, 2).ShouldAllBe(p => !p.Contains(weather, StringComparison.Ordinal));
    }

    [Fact]
    public void One_package_in_one_edition_can_come_back_alone()
    {
        int point = _bench.Remove("Weather,Calculator", "newcomers").Point!.Value;
        _bench.Undo(point, Demo.Family("Northlight.Weather"), edition: 3).Failures.ShouldBeEmpty();
        WimSource.Verify(_path);
        Names(3).ShouldContain("Weather");
        Names(3).ShouldNotContain("Calculator");
        Names(2).ShouldNotContain("Weather");
        _bench.Points()[0].State.ShouldBe(PointState.UndoneInPart);
    }

    [Fact]
    public void An_edition_that_is_undone_whole_has_its_files_to_the_last_byte()
    {
        var original = Details(1);
        int point = _bench.Remove("Weather", "newcomers").Point!.Value;
        _bench.Undo(point, edition: 1).Failures.ShouldBeEmpty();
        WimSource.Verify(_path);
        Differing(original, 1).ShouldBeEmpty();
    }

    private long Compact()
    {
        using var image = ImageFile.Open(_path, new WriteInterceptor());
        return ImageCompaction.Copy(image, _path, new WriteInterceptor(), TestContext.Current.CancellationToken);
    }

    private void RemoveEverywhereAndCompact(bool keepFiles)
    {
        _bench.Remove("Weather", "newcomers", keepFiles: keepFiles);
        long before = new FileInfo(_path).Length;
        Compact().ShouldBeLessThan(before);
        WimSource.Verify(_path);
        _folder.Path.ShouldSatisfyAllConditions(() => Directory.GetFiles(_folder.Path, ".*").ShouldBeEmpty());
    }

    [Fact]
    public void After_compacting_files_that_were_not_kept_are_lost_and_that_is_said()
    {
        RemoveEverywhereAndCompact(keepFiles: false);
        var plan = _bench.PlanUndo(1);
        plan.Rewind.ShouldBeNull();
        plan.Lost.ShouldNotBeEmpty();
        plan.Lost.ShouldAllBe(c => c is TreeAdded);
        plan.Changes.ShouldContain(c => c is HiveChange);
    }

    [Fact]
    public void After_compacting_files_that_were_kept_come_back()
    {
        var original = Details(2);
        RemoveEverywhereAndCompact(keepFiles: true);
        _bench.PlanUndo(1).Lost.ShouldBeEmpty();
        _bench.Undo(1).Failures.ShouldBeEmpty();
        WimSource.Verify(_path);
        Differing(original, 2).ShouldBeEmpty();
    }

    [Fact]
    public void Editions_with_the_same_hive_and_the_same_changes_go_on_sharing_it()
    {
        _bench.Remove("Weather", "newcomers", editions: ["2", "4"]);
        using var image = ImageFile.Open(_path, new WriteInterceptor());
        var software = WindowsPath.Of(@"Windows\System32\config\SOFTWARE");
        string second = image.OpenEdition(2).ContentName(software)!;
        image.OpenEdition(4).ContentName(software).ShouldBe(second);
        image.Wim.Blobs.Find(Sha1Hash.Parse(second)!.Value)!.Value.References.ShouldBe(2u);
    }

    [Fact]
    public void A_hive_with_a_second_name_has_the_new_content_under_both()
    {
        string root = Demo.CopyFewTo(_folder, "linked");
        Tool.Read("ln", HiveEdit.Software(root), Path.Combine(root, "Windows/second name"));
        string path = WimSource.Capture(_folder, root, "linked.wim");
        new Bench(path, _folder["linked-vault"]).Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        WimSource.Verify(path);
        WimSource.Imagex("extract", path, "1", "/Windows/second name", $"--dest-dir={_folder.Path}");
        HiveEdit.HasKey(_folder["second name"], $@"{HiveEdit.Store}\Deprovisioned\{Demo.Family("Northlight.Weather")}").ShouldBeTrue();
        WimSource.Field(WimSource.Details(path, 1)["/Windows/second name"], "Link Count").ShouldBe("2");
    }

    [Fact]
    public void Something_changed_since_is_a_conflict_and_left_alone()
    {
        int point = _bench.Remove("Weather", "newcomers", editions: "1").Point!.Value;
        string place = $"/Program Files/WindowsApps/{Demo.FullName("Northlight.Weather")}";
        _folder.Write("other/readme.txt", "put here by someone else"u8);
        WimSource.Imagex("update", _path, "1", $"--command=add {_folder["other"]} \"{place}\"");
        _bench.PlanUndo(point).Conflicts.OfType<TreeAdded>().ShouldHaveSingleItem();
    }

    [Fact]
    public void Editions_are_named_by_number_or_by_name()
    {
        using var target = _bench.Open();
        target.SelectEditions(["counter office", "1"]).ShouldBe([1, 3]);
        target.SelectEditions([]).Length.ShouldBe(4);
        Should.Throw<MoorfieldException>(() => target.SelectEditions(["5"])).Message.ShouldContain("no edition '5'. It has: 1 (Counter Home), ");
        byte[] bytes = File.ReadAllBytes(_path);
        System.Text.Encoding.Unicode.GetBytes("Counter Pro ")
            .CopyTo(bytes, bytes.AsSpan().IndexOf(System.Text.Encoding.Unicode.GetBytes("Counter Twin")));
        File.WriteAllBytes(_path, bytes);
        using var again = _bench.Open();
        Should.Throw<MoorfieldException>(() => again.SelectEditions(["Counter Pro"])).Message.ShouldContain("Give a number: 2 or 4.");
    }

    [Fact]
    public void A_content_that_is_missing_is_said_in_one_sentence()
    {
        using (var wim = new FileStream(_path, FileMode.Open, FileAccess.ReadWrite))
        {
            // The entry of the SOFTWARE hive in the blob table gets another SHA-1.
            using var read = WimFile.Open(wim.SafeFileHandle);
            var hash = read.ReadMetadata(1).Root.Find("Windows")!.Find("System32")!.Find("config")!.Find("SOFTWARE")!.Content;
            byte[] wanted = new byte[Sha1Hash.Length];
            hash.Write(wanted);
            int place = _original.AsSpan((int)read.Header.BlobTable.Offset).IndexOf(wanted) + (int)read.Header.BlobTable.Offset;
            wim.Position = place;
            wim.WriteByte((byte)(wanted[0] ^ 1));
        }
        using var target = _bench.Open();
        Should.Throw<MoorfieldException>(() => target.Read([1])).Message.ShouldContain("'SOFTWARE' has the content");
    }

    // ---- stopped and failed in the middle

    private static WriteInterceptor Failing(int step)
    {
        int steps = 0;
        return new WriteInterceptor((_, name) =>
        {
            if (++steps == step)
                throw new MoorfieldException(ErrorKind.Failed, $"{name}: No space left on device.");
        });
    }

    private static readonly int Seed = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_SEED"), out int seed) ? seed
        : Random.Shared.Next(int.MaxValue / 2);

    private bool Crash(Action<WriteInterceptor> run, int step, int seed) => CrashDisk.Crash(_folder["stash"], run, step, seed);

    private int CountSteps()
    {
        int steps = 0;
        new Bench(Demo.CopyImageTo(_folder, "counted.wim"), _folder["counted-vault"])
            .Remove("Weather", "newcomers", new WriteInterceptor((_, _) => steps++));
        return steps;
    }

    [Fact]
    public void A_run_cut_off_anywhere_leaves_the_old_image_or_the_new_one()
    {
        int count = CountSteps();
        var seen = new HashSet<PointState?>();
        // One step more than there are: a run that has returned has taken effect.
        for (int step = 1; step <= count + 1; step++)
        {
            // It is at the end, with tables and header, that the order matters most.
            for (int seed = Seed; seed < Seed + (!Thorough.EveryStep ? step > count - 12 ? 4 : 1 : step > count - 12 ? 10 : 2); seed++)
            {
                string name = $"cut{step}";
                string story = $"step {step} of {count}, MOORFIELD_SEED={seed}";
                var bench = new Bench(Demo.CopyImageTo(_folder, name + ".wim"), _folder[name + "-vault"]);
                bool cut = Crash(interceptor => bench.Remove("Weather", "newcomers", interceptor), step, seed);
                cut.ShouldBe(step <= count);
                bool isOld = bench.ReadAll().All(s => s.Packages.Any(p => p.DisplayName == "Weather" && p.Newcomers));
                bool isNew = bench.ReadAll().All(s => !s.Packages.Any(p => p.DisplayName == "Weather"));
                (isOld ^ isNew).ShouldBeTrue(story);
                (isNew || cut).ShouldBeTrue(story);
                if (isOld)
                    File.ReadAllBytes(bench.Root).AsSpan(0, _original.Length).SequenceEqual(_original).ShouldBeTrue(story);
                else
                    WimSource.Verify(bench.Root);
                bench.Settle();
                var state = bench.Points().SingleOrDefault()?.State;
                state.ShouldBeOneOf(isNew ? [PointState.InEffect] : [null, PointState.NotTaken]);
                seen.Add(state);
                if (isNew)
                {
                    bench.Undo(1).Failures.ShouldBeEmpty();
                    File.ReadAllBytes(bench.Root).ShouldBe(_original);
                }
                Tool.Read("rm", "-rf", bench.Root, _folder[name + "-vault"]);
            }
        }
        seen.ShouldBe([null, PointState.NotTaken, PointState.InEffect], ignoreOrder: true);
    }

    [Fact]
    public void An_undo_cut_off_anywhere_leaves_the_new_image_or_the_old_one_and_can_be_done_again()
    {
        for (int step = 1; step < 30; step++)
        {
            var bench = new Bench(Demo.CopyImageTo(_folder, "undo.wim"), _folder["undo-vault"]);
            bench.Remove("Weather", "newcomers");
            bool cut = Crash(interceptor => bench.Undo(1, interceptor: interceptor), step, step);
            bench.Settle();
            if (bench.PlanUndo(1).HasEffect)
            {
                cut.ShouldBeTrue($"step {step}");
                bench.Undo(1).Failures.ShouldBeEmpty();
            }
            File.ReadAllBytes(bench.Root).AsSpan(0, _original.Length).SequenceEqual(_original).ShouldBeTrue($"step {step}");
            bench.Points()[0].State.ShouldBe(PointState.Undone, $"step {step}");
            Tool.Read("rm", "-rf", bench.Root, _folder["undo-vault"]);
            if (!cut)
                return;
        }
        throw new InvalidOperationException("The undo never ended.");
    }

    [Fact]
    public void A_write_that_fails_leaves_the_image_as_it_was_with_its_old_length_and_withdraws_the_restore_point()
    {
        int count = CountSteps();
        int withdrawn = 0;
        int taken = 0;
        for (int step = 1; step <= count; step++)
        {
            string name = $"fail{step}";
            var bench = new Bench(Demo.CopyImageTo(_folder, name + ".wim"), _folder[name + "-vault"]);
            Should.Throw<MoorfieldException>(() =>
                bench.Remove("Weather", "newcomers", Failing(step))).Message.ShouldContain("No space left on device");
            if (bench.ReadAll().All(s => !s.Packages.Any(p => p.DisplayName == "Weather")))
            {
                taken++; // only its journal could not be written any more
            }
            else
            {
                withdrawn++;
                File.ReadAllBytes(bench.Root).ShouldBe(_original, $"step {step}");
                if (Directory.Exists(_folder[name + "-vault"]))
                    bench.Points().ShouldBeEmpty($"step {step}");
            }
            Tool.Read("rm", "-rf", bench.Root, _folder[name + "-vault"]);
        }
        withdrawn.ShouldBeGreaterThan(10);
        taken.ShouldBeInRange(1, 3);
    }

    [Fact]
    public void Compacting_that_is_cut_off_anywhere_leaves_the_image_as_it_was_or_the_smaller_one()
    {
        _bench.Remove("Weather", "newcomers");
        byte[] before = File.ReadAllBytes(_path);
        using (var image = ImageFile.Open(_path, new WriteInterceptor()))
            ImageCompaction.Copy(image, _folder["counted.wim"], new WriteInterceptor(), TestContext.Current.CancellationToken);
        byte[] compact = File.ReadAllBytes(_folder["counted.wim"]);
        int old = 0;
        bool cut = true;
        // At the end a dozen times with another choice of what is lost: a compacting that has returned has taken effect.
        for (int step = 1, returned = 0; returned < 12; step++, returned += cut ? 0 : 1)
        {
            File.WriteAllBytes(_path, before);
            using (var image = ImageFile.Open(_path, new WriteInterceptor()))
                cut = Crash(interceptor => ImageCompaction.Copy(image, _path, interceptor, TestContext.Current.CancellationToken), step, step);
            byte[] after = File.ReadAllBytes(_path);
            after.Length.ShouldBeOneOf(before.Length, compact.Length);
            after.ShouldBe(after.Length == before.Length ? before : compact, $"step {step}");
            if (after.Length == before.Length)
                old++;
            (cut || after.Length == compact.Length).ShouldBeTrue($"step {step}");
            _bench.ClearParts();
            Directory.GetFiles(_folder.Path, ".*").ShouldBeEmpty();
        }
        old.ShouldBeGreaterThan(10);
    }

    [Fact]
    public void Contents_that_overlap_are_found_before_the_change()
    {
        Overlap();
        byte[] damaged = File.ReadAllBytes(_path);
        Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "newcomers")).Message.ShouldContain("two contents overlap");
        File.ReadAllBytes(_path).ShouldBe(damaged);
        Directory.Exists(_folder["vault/points"]).ShouldBeFalse();
    }

    /// <summary>Lets a content that nobody reads here begin within the one before it.</summary>
    private void Overlap()
    {
        using var read = ImageFile.Open(_path, new WriteInterceptor());
        var table = read.Wim.Header.BlobTable;
        var entries = read.Wim.Blobs.Entries.Where(e => !e.IsMetadata).OrderBy(e => e.Resource.Offset).ToList();
        byte[] hash = new byte[Sha1Hash.Length];
        for (int i = 1; i < entries.Count; i++)
        {
            byte[] bytes = [.. _original];
            entries[i].Hash.Write(hash);
            int place = bytes.AsSpan((int)table.Offset, (int)table.StoredSize).IndexOf(hash) + (int)table.Offset - 30;
            BitConverter.TryWriteBytes(bytes.AsSpan(place + 8), entries[i - 1].Resource.Offset + 1);
            File.WriteAllBytes(_path, bytes);
            try
            {
                if (_bench.ReadAll().All(s => s.Notes.IsEmpty))
                    return;
            }
            catch (MoorfieldException)
            {
                // one that is read: the next
            }
        }
        throw new InvalidOperationException("Every content is read.");
    }
}
