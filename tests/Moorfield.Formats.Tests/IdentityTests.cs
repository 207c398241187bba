using CsCheck;
using Moorfield.Formats.Appx;

namespace Moorfield.Formats.Tests;

public class IdentityTests
{
    private static readonly Gen<PackageVersion> Version = Gen.Select(Gen.UShort, Gen.UShort, Gen.UShort, Gen.UShort,
    (a, b, c, d) => new PackageVersion(a, b, c, d));

    private static readonly Gen<PackageFullName> FullName = Gen.Select(
        Gen.String[Gen.Char["ABCxyz019.-"], 3, 50], Version,
        Gen.Int[0, 5].Select(i => new[] { "x86", "x64", "arm", "arm64", "neutral", "x86a64" }[i]),
        Gen.OneOf(Gen.Const("~"), Gen.String[Gen.Char["abz.-09"], 0, 30]), Gen.String[Gen.Char["0123456789abcdefghjkmnpqrstvwxyz"], 13, 13],
        (name, version, architecture, resource, publisher) => new PackageFullName(name, version, architecture, resource, publisher));

    // Worked out by other means: RFC 4648 base 32 with the letters exchanged.
    [Theory]
    [InlineData("CN=Northlight Systems, O=Northlight Systems, L=Wexcombe, C=GB", "8pewgm0k42rsa")]
    [InlineData("CN=Saltmarsh Ferries, O=Saltmarsh Ferries, C=GB", "kc6hmsgjjagz6")]
    [InlineData("CN=Große Fähre Ærø", "qea0keg5rj0sc")]
    public void A_publisher_id_is_the_first_64_bits_of_the_hash_in_13_letters(string publisher, string id) =>
        PublisherId.FromPublisher(publisher).ShouldBe(id);

    [Fact]
    public void A_full_name_is_read_back_from_its_text() => FullName.Sample(name =>
        PackageFullName.TryParse(name.ToString(), out var again) && again == name && again.ToString() == name.ToString()
        && again.Version == name.Version && again.Architecture == name.Architecture && again.ResourceId == name.ResourceId
            && again.Family == name.Family);

    [Fact]
    public void A_family_name_is_read_back_from_its_text() => FullName.Sample(name =>
        PackageFamilyName.TryParse(name.Family.ToString(), out var family) && family == name.Family && family.Name == name.Name);

    [Fact]
    public void Full_names_and_families_do_not_regard_case() => FullName.Sample(name =>
        PackageFullName.TryParse(name.ToString().ToUpperInvariant(), out var upper) && upper == name && upper.GetHashCode() == name.GetHashCode()
            && upper.Family == name.Family);

    [Fact]
    public void Versions_are_ordered_number_by_number() => Gen.Select(Version, Version).Sample((a, b) =>
        Math.Sign(a.CompareTo(b)) == Math.Sign((a.Major, a.Minor, a.Build, a.Revision).CompareTo((b.Major, b.Minor, b.Build, b.Revision)))
        && a < b == b > a && (a <= b || a > b));

    [Fact]
    public void A_version_is_read_back_from_its_text() => Version.Sample(v => PackageVersion.TryParse(v.ToString(), out var again) && again == v);

    [Theory]
    [InlineData("")]
    [InlineData("1.2.3")]
    [InlineData("1.2.3.4.5")]
    [InlineData("1.2.3.65536")]
    [InlineData("1.2.3.-4")]
    [InlineData("1.2.3. 4")]
    [InlineData("1..3.4")]
    [InlineData("1.2.3.4x")]
    public void What_is_no_version_is_not_read(string text) => PackageVersion.TryParse(text, out _).ShouldBeFalse();

    [Theory]
    [InlineData("Northlight.Weather_4.53.51922.0_x64_8pewgm0k42rsa")] // one underscore short
    [InlineData("No_4.53.51922.0_x64__8pewgm0k42rsa")] // name too short
    [InlineData("Northlight.Weather_4.53_x64__8pewgm0k42rsa")]
    [InlineData("Northlight.Weather_4.53.51922.0_mips__8pewgm0k42rsa")]
    [InlineData("Northlight.Weather_4.53.51922.0_x64__8pewgm0k42rsi")] // i is not in the alphabet
    [InlineData("Northlight.Weather_4.53.51922.0_x64_a/b_8pewgm0k42rsa")]
    [InlineData("..\\..\\Windows_4.53.51922.0_x64__8pewgm0k42rsa")]
    public void What_is_no_full_name_is_not_read(string text) => PackageFullName.TryParse(text, out _).ShouldBeFalse();

    [Theory]
    [InlineData("Northlight.Weather")]
    [InlineData("Northlight.Weather_8pewgm0k42rs")]
    [InlineData("_8pewgm0k42rsa")]
    [InlineData("a\\b_8pewgm0k42rsa")]
    public void What_is_no_family_name_is_not_read(string text) => PackageFamilyName.TryParse(text, out _).ShouldBeFalse();

    [Fact]
    public void A_bundle_is_known_by_its_resource_id()
    {
        PackageFullName.TryParse("Northlight.Weather_2026.904.1200.0_neutral_~_8pewgm0k42rsa", out var bundle).ShouldBeTrue();
        bundle!.IsBundle.ShouldBeTrue();
    }
}
