namespace Moorfield.Core.Trees;

/// <summary>Windows counts units of 100 ns since 1601, this program seconds since 1970.</summary>
internal static class WindowsTime
{
    private const long Epoch = 116_444_736_000_000_000;
    private const long Second = 10_000_000;

    internal static FileTime From(long time)
    {
        long since = time - Epoch;
        long seconds = (long)Math.Floor((double)since / Second);
        return new FileTime(seconds, (uint)Math.Clamp((since - (seconds * Second)) * 100, 0, 999_999_999));
    }

    internal static long To(FileTime time) => Epoch + (time.Seconds * Second) + (time.Nanoseconds / 100);
}
