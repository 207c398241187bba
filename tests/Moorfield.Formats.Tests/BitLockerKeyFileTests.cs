using System.Text;
using Moorfield.Formats.Disks.BitLocker;

namespace Moorfield.Formats.Tests;

/// <summary>Key files as people have them.</summary>
public sealed class BitLockerKeyFileTests
{
    private const string Recovery = "235818-357951-253979-013365-241120-245575-342914-591910";
    private const string Id = "64311DEA-30B8-4A29-BC0F-11DF6C4F2F1B";

    private static string Kinds(ReadOnlySpan<byte> content)
    {
        using var file = BitLockerKeyFile.Read(content);
        return string.Join(' ', file.Keys.Select(k => k.Kind)) + (file.MistypedGroup > 0 ? $" mistyped {file.MistypedGroup}" : "")
            + (file.IncompleteGroups > 0 ? $" groups {file.IncompleteGroups}" : "");
    }

    public static TheoryData<string, string> Texts => new()
    {
        { Recovery, "RecoveryKey" },
        { Recovery + "\r\n", "RecoveryKey" },
        { Recovery.Replace('-', ' '), "RecoveryKey" },
        { Recovery.Replace("-", " – "), "RecoveryKey" },
        { $"Schlüssel zur Wiederherstellung\r\n\r\nBezeichner:\r\n\t{Id}\r\n\r\n\t{Recovery}\r\n", "RecoveryKey" },
        { $"COUNTER-07;{Id};{Recovery}\nCOUNTER-08;{Id};{Recovery}\n", "RecoveryKey RecoveryKey" },
        { $"{Id[..^6]}123456 {Recovery}", "RecoveryKey" },
        { $"2026-10-05 063000 {Recovery}", "RecoveryKey" },
        { Recovery.Insert(27, " 12345 "), " groups 4" },
        { Recovery.Insert(27, new string(' ', 40)), " groups 4" },
        { Recovery[..^1] + "1", " mistyped 8" },
        { Recovery[..^7], " groups 7" },
        { Recovery[..27], " groups 4" },
        { Recovery[..20], "Password" },
        { Recovery[..^1], " groups 7" },
        { "slow tide, early ferry\n", "Password" },
        { "Fähre um sieben", "Password" },
        { new string('a', 256), "Password" },
        { new string('a', 257), "" },
        { new string('a', 32), "VolumeKey Password" },
        { new string('A', 64), "VolumeKey Password" },
        { new string('0', 128), "VolumeKey Password" },
        { new string('g', 64), "Password" },
        { "two\nlines", "" },
        { "\r\n", "" },
        { "", "" },
    };

    [Theory]
    [MemberData(nameof(Texts))]
    public void A_text_is_read_in_every_encoding(string text, string kinds)
    {
        Kinds(Encoding.UTF8.GetBytes(text)).ShouldBe(kinds);
        Kinds([0xEF, 0xBB, 0xBF, .. Encoding.UTF8.GetBytes(text)]).ShouldBe(kinds);
        Kinds([0xFF, 0xFE, .. Encoding.Unicode.GetBytes(text)]).ShouldBe(kinds);
        if (text.Length > 1)
            Kinds(Encoding.Unicode.GetBytes(text)).ShouldBe(kinds);
    }

    [Fact]
    public void Bytes_that_nobody_could_type_are_a_volume_key_and_no_password() => Kinds([.. Enumerable.Repeat((byte)1, 32)]).ShouldBe("VolumeKey");

    [Theory]
    [InlineData(16, "VolumeKey")]
    [InlineData(32, "VolumeKey")]
    [InlineData(64, "VolumeKey")]
    [InlineData(48, "")]
    [InlineData(65536, "")]
    public void Bytes_that_are_no_text_are_a_volume_key_if_they_are_as_many(int count, string kinds)
    {
        byte[] bytes = new byte[count];
        new Random(3).NextBytes(bytes);
        bytes[0] = 1;
        Kinds(bytes).ShouldBe(kinds);
    }

    [Fact]
    public void Key_ids_are_found_wherever_they_stand()
    {
        using var file = BitLockerKeyFile.Read(Encoding.UTF8.GetBytes($"x{Id} {{{Id.ToLowerInvariant()}}}\n{Recovery}"));
        file.Ids.ShouldBe([Guid.Parse(Id), Guid.Parse(Id)]);
    }

    [Fact]
    public void A_disposed_key_is_cleared()
    {
        var key = BitLockerKey.FromVolumeKey(new byte[16] { 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16 })!;
        var bytes = key.Bytes;
        key.Dispose();
        bytes.ToArray().ShouldAllBe(b => b == 0);
    }
}
