namespace Moorfield.Formats.Appx;

/// <summary>A package version: four numbers, each 0 to 65535, compared from left to right. Source: docs/on-disk.md, "Identity" [doc].</summary>
public readonly record struct PackageVersion(ushort Major, ushort Minor, ushort Build, ushort Revision) : IComparable<PackageVersion>
{
    /// <summary>Reads exactly four dotted decimal numbers without signs or spaces.</summary>
    /// <returns>False when <paramref name="text"/> is anything else.</returns>
    public static bool TryParse(ReadOnlySpan<char> text, out PackageVersion version)
    {
        version = default;
        Span<ushort> numbers = stackalloc ushort[4];
        for (int i = 0; i < 4; i++)
        {
            int dot = text.IndexOf('.');
            if (dot < 0 != (i == 3))
                return false;
            var digits = i == 3 ? text : text[..dot];
            if (!ushort.TryParse(digits, NumberStyles.None, CultureInfo.InvariantCulture, out numbers[i]))
                return false;
            text = i == 3 ? default : text[(dot + 1)..];
        }
        version = new PackageVersion(numbers[0], numbers[1], numbers[2], numbers[3]);
        return true;
    }

    private ulong Order => ((ulong)Major << 48) | ((ulong)Minor << 32) | ((ulong)Build << 16) | Revision;

    public int CompareTo(PackageVersion other) => Order.CompareTo(other.Order);

    public static bool operator <(PackageVersion left, PackageVersion right) => left.Order < right.Order;
    public static bool operator >(PackageVersion left, PackageVersion right) => left.Order > right.Order;
    public static bool operator <=(PackageVersion left, PackageVersion right) => left.Order <= right.Order;
    public static bool operator >=(PackageVersion left, PackageVersion right) => left.Order >= right.Order;

    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Major}.{Minor}.{Build}.{Revision}");
}
