using System.Runtime.InteropServices;
using System.Text;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>The conversions that the portable program has inside, held against the C library's own: byte for byte, and error for error.</summary>
public sealed unsafe class ConversionTests : IDisposable
{
    private static readonly string[] Forms = ["UTF-16LE", "LATIN1", "UTF-8"];
    private readonly TemporaryFolder _folder = new(inMemory: false);
    private readonly Converter _ours, _theirs;

    public ConversionTests()
    {
        string source = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(source, "README.md")))
            source = Path.GetDirectoryName(source)!;
        string library = _folder["conversions.so"];
        Tool.Read("gcc", "-shared", "-fPIC", "-O2", "-Wall", "-Wextra", "-Werror", "-Wl,-Bsymbolic", "-o", library,
            Path.Combine(source, "packaging/portable/conversions.c"));
        _ours = new Converter(NativeLibrary.Load(library));
        _theirs = new Converter(NativeLibrary.Load("libc.so.6"));
    }

    public void Dispose() => _folder.Dispose();

    /// <summary>What a conversion came to.</summary>
    private sealed record Converted(nint Result, int Error, int Taken, string Output);

    private sealed class Converter(nint library)
    {
        private readonly delegate* unmanaged<byte*, byte*, nint> _open =
            (delegate* unmanaged<byte*, byte*, nint>)NativeLibrary.GetExport(library, "iconv_open");

        private readonly delegate* unmanaged<nint, byte**, nuint*, byte**, nuint*, nint> _convert =
            (delegate* unmanaged<nint, byte**, nuint*, byte**, nuint*, nint>)NativeLibrary.GetExport(library, "iconv");

        private readonly delegate* unmanaged<nint, int> _close = (delegate* unmanaged<nint, int>)NativeLibrary.GetExport(library, "iconv_close");

        internal nint Open(string to, string from)
        {
            fixed (byte* target = Encoding.ASCII.GetBytes(to + '\0'), source = Encoding.ASCII.GetBytes(from + '\0'))
                return _open(target, source);
        }

        internal void Close(nint handle) => _close(handle);

        internal Converted Convert(nint handle, byte[] input, int room)
        {
            // The state of a conversion that failed is not carried on.
            _convert(handle, null, null, null, null);
            byte[] output = new byte[room + 1];
            fixed (byte* from = new byte[input.Length + 1], to = output)
            {
                input.CopyTo(new Span<byte>(from, input.Length));
                byte* at = from, put = to;
                nuint left = (nuint)input.Length, free = (nuint)room;
                Marshal.SetLastSystemError(0);
                nint result = _convert(handle, &at, &left, &put, &free);
                int error = result < 0 ? Marshal.GetLastSystemError() : 0;
                return new Converted(result, error, (int)(at - from), System.Convert.ToHexString(output, 0, (int)(put - to)));
            }
        }
    }

    private void Compare(string to, string from, IEnumerable<(byte[] Input, int Room)> cases)
    {
        nint ours = _ours.Open(to, from), theirs = _theirs.Open(to, from);
        ours.ShouldNotBe(-1);
        foreach (var (input, room) in cases)
        {
            var made = _ours.Convert(ours, input, room);
            var right = _theirs.Convert(theirs, input, room);
            if (made != right)
                made.ShouldBe(right, $"{from} to {to}: {System.Convert.ToHexString(input)} into {room}");
        }
        _ours.Close(ours);
        _theirs.Close(theirs);
    }

    public static IEnumerable<TheoryDataRow<string, string>> Pairs() =>
        Forms.SelectMany(to => Forms.Where(f => f != to).Select(from => new TheoryDataRow<string, string>(to, from)));

    [Theory]
    [MemberData(nameof(Pairs))]
    public void Every_character_is_converted_as_the_C_library_does(string to, string from)
    {
        var encoding = from switch { "UTF-16LE" => Encoding.Unicode, "LATIN1" => Encoding.Latin1, _ => Encoding.UTF8 };
        int last = from == "LATIN1" ? 0xFF : 0x10FFFF;
        Compare(to, from, Enumerable.Range(0, last + 1).Where(Rune.IsValid).Select(c => (encoding.GetBytes(new Rune(c).ToString()), 8)));
    }

    [Theory]
    [MemberData(nameof(Pairs))]
    public void Spoilt_texts_and_short_rooms_end_as_in_the_C_library(string to, string from)
    {
        var random = new Random(33);
        byte[] telling =
        [
            0x00, 0x41, 0x7F, 0x80, 0xBF, 0xC0, 0xC1, 0xC2, 0xDF, 0xE0, 0x9F, 0xA0, 0xED, 0xEF, 0xF0, 0x8F, 0x90, 0xF4, 0xF5, 0xF8, 0xFF, 0xD8,
            0xDB, 0xDC,
        ];
        Compare(to, from, Enumerable.Range(0, 200_000).Select(i =>
        {
            byte[] input = new byte[random.Next(9)];
            for (int at = 0; at < input.Length; at++)
                input[at] = i % 4 == 0 ? (byte)random.Next(256) : telling[random.Next(telling.Length)];
            return (input, random.Next(12));
        }));
    }

    [Theory]
    [InlineData("utf-8", "Utf-16Le", true)]
    [InlineData("ISO-8859-1", "UTF8", true)]
    [InlineData("UTF-8", "UTF-7", false)]
    [InlineData("", "UTF-8", false)]
    public void Only_what_is_needed_is_known(string to, string from, bool known) => (_ours.Open(to, from) != -1).ShouldBe(known);
}
