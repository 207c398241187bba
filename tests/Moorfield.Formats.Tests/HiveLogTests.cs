using System.Buffers.Binary;
using System.Reflection;
using System.Security.Cryptography;
using CsCheck;
using Microsoft.Win32.SafeHandles;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

public sealed class HiveLogTests : IDisposable
{
    private const uint First = 100;
    private static readonly DateTimeOffset Time = new(2026, 10, 5, 6, 30, 0, TimeSpan.Zero);
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly List<byte[]> _states;

    public HiveLogTests()
    {
        // Each state has more than the one before; the last ones need more bins.
        byte[] hive = MinimalHive.Create("ROOT", Time);
        "counter\0"u8.CopyTo(hive.AsSpan(48));
        Number(hive, 508, LogWriter.Checksum(hive));
        _states = [Changed(hive, h => Enumerable.Range(0, 40).ToList().ForEach(i => h.Create($@"Saltmarsh\Key {i}")))];
        for (int i = 1; i <= 6; i++)
        {
            int n = i;
            _states.Add(Changed(_states[^1], h =>
            {
                h.Create($@"Saltmarsh\Key {n}\Below").Set(HiveValue.FromString("state", new string('x', n * 300)));
                h.Find($@"Saltmarsh\Key {n + 20}")!.Value.Delete();
            }));
        }
    }

    private byte[] Changed(byte[] hive, Action<Hive> change)
    {
        using var file = Open("making", hive);
        using var open = Hive.OpenWrite(file);
        change(open);
        return open.ToArray();
    }

    private SafeFileHandle Open(string name, byte[] content) => File.OpenHandle(_folder.Write(name, content));

    /// <summary>A hive that was left before an entry.</summary>
    private static byte[] Left(byte[] hive, uint before)
    {
        byte[] left = [.. hive];
        Number(left, 4, before + 1);
        Number(left, 8, before);
        Number(left, 508, LogWriter.Checksum(left));
        return left;
    }

    private byte[] Entry(int i) => LogWriter.Entry(_states[i], _states[i + 1], First + (uint)i);

    /// <summary>A log with entries from one state to another.</summary>
    private byte[] Log(int from, int to) =>
        [.. LogWriter.Head(_states[from], First + (uint)from), .. Enumerable.Range(from, to - from).SelectMany(Entry)];

    private (byte[]? Content, int Writes, string? Why) Replay(byte[] hive, params byte[][] logs)
    {
        using var file = Open("hive", hive);
        var open = logs.Select((l, i) => Open($"hive.LOG{i + 1}", l)).ToList();
        var replay = HiveLogs.Replay(file, open);
        open.ForEach(l => l.Dispose());
        File.ReadAllBytes(_folder["hive"]).AsSpan().SequenceEqual(hive).ShouldBeTrue();
        using var content = replay.Content;
        if (content is null)
            return (null, 0, replay.Why.ShouldNotBeNull());
        byte[] bytes = new byte[RandomAccess.GetLength(content)];
        RandomAccess.Read(content, bytes, 0);
        HiveHeader.Read(content).IsDirty.ShouldBeFalse();
        HiveLogs.AreNeeded(content).ShouldBeFalse();
        return (bytes, replay.Writes, replay.Why);
    }

    /// <summary>A digest of a hive's bins.</summary>
    private static string Bins(byte[] hive) =>
        Convert.ToHexString(SHA256.HashData(hive.AsSpan(4096, (int)BinaryPrimitives.ReadUInt32LittleEndian(hive.AsSpan(40)))));

    private static void Number(Span<byte> bytes, int offset, uint number) => BinaryPrimitives.WriteUInt32LittleEndian(bytes[offset..], number);

    [Fact]
    public void The_hash_is_the_one_that_the_runtime_has_as_well()
    {
        var method = typeof(string).Assembly.GetType("System.Marvin")!.GetMethod(
            "ComputeHash32", BindingFlags.Public | BindingFlags.NonPublic | BindingFlags.Static, [typeof(byte).MakeByRefType(), typeof(uint),
            typeof(uint), typeof(uint)])!;
        var random = new Random(16);
        for (int length = 0; length < 100; length++)
        {
            byte[] bytes = new byte[length + 1];
            random.NextBytes(bytes);
            ulong seed = (ulong)random.NextInt64();
            ulong hash = Marvin32.Hash(bytes.AsSpan(0, length), seed);
            Referee(method, bytes, length, seed).ShouldBe((int)(uint)hash ^ (int)(hash >> 32));
        }
    }

    private static unsafe int Referee(MethodInfo method, byte[] bytes, int length, ulong seed)
    {
        var compute = (delegate*<ref byte, uint, uint, uint, int>)method.MethodHandle.GetFunctionPointer();
        return compute(ref bytes[0], (uint)length, (uint)seed, (uint)(seed >> 32));
    }

    [Theory]
    [InlineData("", 0x30ed35c100cd3c7dul)]
    [InlineData("af", 0x48e73fc77d75ddc1ul)]
    [InlineData("e70f", 0xb5f6e1fc485dbff8ul)]
    public void The_hash_gives_known_results(string bytes, ulong hash) =>
        Marvin32.Hash(Convert.FromHexString(bytes), 0x004fb61a001bdbcc).ShouldBe(hash);

    [Fact]
    public void Newer_logs_are_replayed_as_a_naive_model_does() =>
        Gen.Select(Gen.Int[0, 5], Gen.Int[0, 6], Gen.Int[0, 6], Gen.Int[-1, 5], Gen.Int[0, 3], Gen.Bool).Sample(
            (left, split, to, spoilt, how, swapped) =>
            {
                split = Math.Min(split, to);
                byte[][] entries = [.. Enumerable.Range(0, 6).Select(i => i == spoilt ? Spoilt(Entry(i), how) : Entry(i))];
                byte[] Part(int from, int end) => [.. LogWriter.Head(_states[from], First + (uint)from), .. entries[from..end].SelectMany(e => e)];
                byte[][] logs = [Part(0, split), Part(split, to)];
                // The model: entry after entry, as long as one is there and nobody spoilt it or, in the same log, one before it.
                int at = left;
                while (at < to && at != spoilt && !(spoilt >= 0 && spoilt < at && spoilt >= (at < split ? 0 : split) && spoilt < to))
                    at++;
                // Later pages may have reached the hive before it was left.
                byte[] hive = Left(_states[left], First + (uint)left);
                if (at > left)
                    _states[at].AsSpan(4096, Math.Min(hive.Length, _states[at].Length) - 4096 >> 13 << 12).CopyTo(hive.AsSpan(4096));
                var (content, writes, _) = Replay(hive, swapped ? [.. logs.Reverse()] : logs);
                writes.ShouldBe(at - left);
                (content is null).ShouldBe(at == left);
                if (content is null)
                    return;
                Bins(content).ShouldBe(Bins(_states[at]));
                BinaryPrimitives.ReadUInt32LittleEndian(content.AsSpan(4)).ShouldBe(First + (uint)at);
            }, iter: 400, threads: 1);

    private static byte[] Spoilt(byte[] entry, int how)
    {
        if (how == 0)
            entry[^1] ^= 1;
        else if (how == 1)
            entry.AsSpan(entry.Length / 2).Clear(); // torn
        else if (how == 2)
            entry[8] ^= 1; // the flags, which only the second hash covers
        else
            "HvLX"u8.CopyTo(entry);
        return entry;
    }

    [Fact]
    public void Whatever_is_spoilt_in_newer_logs_a_state_that_was_comes_of_it_or_none()
    {
        var random = new Random(20261127);
        var bins = _states.Select(Bins).ToHashSet();
        for (int run = 0; run < 600; run++)
        {
            byte[][] logs = [Log(0, 3), Log(3, 6)];
            for (int hit = random.Next(1, 4); hit > 0; hit--)
            {
                byte[] log = logs[random.Next(2)];
                int place = random.Next(3) == 0 ? 512 + random.Next(60) : random.Next(log.Length);
                log[place] = (byte)random.Next(256);
            }
            if (random.Next(4) == 0)
                logs[1] = logs[1][..random.Next(logs[1].Length)];
            var (content, _, _) = Replay(Left(_states[0], First), logs);
            if (content is not null)
                bins.ShouldContain(Bins(content));
        }
    }

    [Fact]
    public void An_entry_may_announce_what_it_will_and_is_held_to_it()
    {
        foreach (var (offset, number) in new[] { (4, uint.MaxValue), (4, 0u), (4, 513u), (16, 0u), (16, 4097u), (16, 0xFFFFF000u), (20,
            uint.MaxValue),
            (20, 100_000u), (40, uint.MaxValue), (40, 0x7FFFF000u), (44, uint.MaxValue) })
        {
            byte[] entry = Entry(0);
            Number(entry, offset, number);
            LogWriter.Seal(entry);
            Replay(Left(_states[0], First), [.. LogWriter.Head(_states[0], First), .. entry]).Why.ShouldBe("its logs hold no entry that is whole");
        }
        // Sound, but the bins that it announces are not there.
        byte[] grown = Entry(0);
        Number(grown, 16, 0x7FFE0000);
        LogWriter.Seal(grown);
        Replay(Left(_states[0], First), [.. LogWriter.Head(_states[0], First), .. grown]).Why.ShouldNotBeNull().ShouldContain("damaged");
    }

    [Fact]
    public void A_base_block_that_was_half_written_comes_from_the_newest_log()
    {
        byte[] hive = Left(_states[3], First + 3);
        hive[100] ^= 0xFF;
        using (var file = Open("torn", hive))
            HiveLogs.AreNeeded(file).ShouldBeTrue();
        var (content, writes, _) = Replay(hive, Log(0, 3), Log(3, 6));
        (writes, Bins(content!)).ShouldBe((3, Bins(_states[6])));
        Array.Clear(hive, 0, 512);
        Bins(Replay(hive, Log(0, 3), Log(3, 6)).Content!).ShouldBe(Bins(_states[6]));
    }

    [Fact]
    public void Logs_that_do_not_fit_are_left_alone()
    {
        byte[] hive = Left(_states[2], First + 2);
        Replay(hive).Why.ShouldBe("it has no transaction logs, or empty ones");
        Replay(hive, [], []).Why.ShouldBe("it has no transaction logs, or empty ones");
        Replay(hive, Log(0, 2)).Why.ShouldBe("all that its logs hold is older than it is");
        Replay(hive, Log(4, 6)).Why.ShouldBe($"its logs begin with entry {First + 4}, and it was left before entry {First + 2}");
        Replay(hive, LogWriter.Head(_states[2], First + 2)).Why.ShouldBe("its logs hold no entry that is whole");
        byte[] foreign = Log(2, 6);
        foreign[50] = (byte)'x';
        Number(foreign, 508, LogWriter.Checksum(foreign));
        Replay(hive, foreign).Why.ShouldBe("its logs are those of another hive");
        foreach (var (offset, number) in new[] { (28, 5u), (24, 7u), (24, 2u), (20, 2u), (32, 2u) })
        {
            byte[] unknown = Log(2, 6);
            Number(unknown, offset, number);
            Number(unknown, 508, LogWriter.Checksum(unknown));
            Replay(hive, unknown).Why.ShouldBe("its logs do not begin as logs do");
        }
        byte[] torn = Log(2, 6);
        torn[300] ^= 1;
        Replay(hive, torn).Why.ShouldBe("its logs do not begin as logs do");
        // One of two is enough.
        Replay(hive, torn, Log(2, 5)).Writes.ShouldBe(3);
    }

    [Fact]
    public void The_flags_are_those_of_the_last_entry()
    {
        const int FlagsInHive = 144;
        byte[] hive = Left(_states[0], First), log = Log(0, 2);
        int second = LogWriter.Head(_states[0], First).Length + Entry(0).Length;
        foreach (int at in new[] { LogWriter.Head(_states[0], First).Length, second })
        {
            Number(log, at + 8, at == second ? 5u : 3u);
            LogWriter.Seal(log.AsSpan(at, (int)BinaryPrimitives.ReadUInt32LittleEndian(log.AsSpan(at + 4))));
        }
        byte[] content = Replay(hive, log).Content!;
        BinaryPrimitives.ReadUInt32LittleEndian(content.AsSpan(FlagsInHive)).ShouldBe(5u);
        BinaryPrimitives.ReadUInt32LittleEndian(content.AsSpan(508)).ShouldBe(LogWriter.Checksum(content));
    }

    [Fact]
    public void Older_logs_are_replayed_sector_by_sector()
    {
        byte[] hive = LogWriter.Dirty(_states[0]);
        uint number = BinaryPrimitives.ReadUInt32LittleEndian(hive.AsSpan(4));
        byte[] log = LogWriter.Older(_states[0], _states[6], number);
        var (content, writes, _) = Replay(hive, log);
        Bins(content!).ShouldBe(Bins(_states[6]));
        writes.ShouldBe(Enumerable.Range(8, (_states[6].Length / 512) - 8).Count(i => (i + 1) * 512 > _states[0].Length
            || !_states[0].AsSpan(i * 512, 512).SequenceEqual(_states[6].AsSpan(i * 512, 512))));
        // Torn base block.
        byte[] torn = [.. hive];
        torn[200] ^= 1;
        Bins(Replay(torn, log).Content!).ShouldBe(Bins(_states[6]));

        Replay(hive, LogWriter.Older(_states[0], _states[6], number - 1)).Why.ShouldBe("its logs are not of the time when it was left");
        Replay(hive, log[..^512]).Why.ShouldBe("its log is cut off");
        Replay(hive, log, LogWriter.Older(_states[0], _states[5], number)).Why.ShouldBe("two logs fit it, and they differ");
        Replay(hive, log, log).Writes.ShouldBe(writes);
        byte[] unmarked = [.. log];
        unmarked[512] = (byte)'X';
        Replay(hive, unmarked).Why.ShouldBe("its log is not of a form that is known");
        byte[] halfLeft = [.. log];
        Number(halfLeft, 8, number - 1);
        Number(halfLeft, 508, LogWriter.Checksum(halfLeft));
        Replay(hive, halfLeft).Why.ShouldBe("its logs are not of the time when it was left");
        Replay(hive, LogWriter.Older(_states[6], _states[6], number)).Why.ShouldBe("its log holds nothing");
    }

    [Fact]
    public void Both_forms_at_once_are_refused_when_both_fit()
    {
        byte[] hive = Left(_states[0], First);
        byte[] newer = Log(0, 2);
        byte[] older = LogWriter.Older(_states[0], _states[6], First + 1);
        Replay(hive, newer, older).Why.ShouldBe("two logs fit it, and they differ");
        Replay(hive, newer, LogWriter.Older(_states[0], _states[6], First - 7)).Writes.ShouldBe(2);
    }

    [Fact]
    public void Spoilt_older_logs_end_in_a_reason_or_in_a_hive_that_holds_together()
    {
        byte[] hive = LogWriter.Dirty(_states[0]);
        byte[] log = LogWriter.Older(_states[0], _states[6], BinaryPrimitives.ReadUInt32LittleEndian(hive.AsSpan(4)));
        var random = new Random(16);
        for (int run = 0; run < 400; run++)
        {
            byte[] spoilt = [.. log];
            for (int hit = random.Next(1, 5); hit > 0; hit--)
                spoilt[random.Next(512, spoilt.Length)] = (byte)random.Next(256);
            Replay(hive, random.Next(4) == 0 ? spoilt[..random.Next(spoilt.Length)] : spoilt);
        }
    }

    [Fact]
    public void A_log_that_Windows_wrote_gives_the_hive_that_Windows_left()
    {
        byte[] hive = File.ReadAllBytes(Genuine.Path("dfwinreg/NTUSER.DAT")), log = File.ReadAllBytes(Genuine.Path("dfwinreg/NTUSER.DAT.LOG"));
        var entry = log.AsSpan(512);
        uint number = BinaryPrimitives.ReadUInt32LittleEndian(entry[12..]);
        int pages = BinaryPrimitives.ReadInt32LittleEndian(entry[20..]);
        pages.ShouldBeGreaterThan(0);
        byte[] before = Left(hive, number);
        for (int i = 0; i < pages; i++)
        {
            var reference = entry[(40 + (i * 8))..];
            var (at, length) = (BinaryPrimitives.ReadInt32LittleEndian(reference), BinaryPrimitives.ReadInt32LittleEndian(reference[4..]));
            before.AsSpan(4096 + at, length).Fill(0xAA);
        }
        using var file = Open("genuine", before);
        using var written = Open("genuine.LOG1", log);
        var replay = HiveLogs.Replay(file, [written]);
        replay.Writes.ShouldBe(1, replay.Why);
        using var content = replay.Content!;
        byte[] after = new byte[RandomAccess.GetLength(content)];
        RandomAccess.Read(content, after, 0).ShouldBe(after.Length);
        after.AsSpan().SequenceEqual(hive).ShouldBeTrue();

        // One bit of a page otherwise, and nothing of it is taken.
        log[^100] ^= 1;
        using var spoilt = Open("spoilt.LOG1", log);
        HiveLogs.Replay(file, [spoilt]).Content.ShouldBeNull();
    }

    public void Dispose() => _folder.Dispose();
}
