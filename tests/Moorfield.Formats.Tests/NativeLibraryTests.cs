using Moorfield.Formats.Native;

namespace Moorfield.Formats.Tests;

public sealed class NativeLibraryTests
{
    [Theory]
    [InlineData("debian", "12", "libwim15", "libwim15")]
    [InlineData("debian", "\"13\"", "libwim15", "libwim15t64")]
    [InlineData("debian", "13", "libhivex0", "libhivex0")]
    [InlineData("debian", "", "libssl3", "libssl3")]
    [InlineData("ubuntu", "\"22.04\"", "libntfs-3g89", "libntfs-3g89")]
    [InlineData("ubuntu", "\"24.04\"", "libntfs-3g89", "libntfs-3g89t64")]
    [InlineData("\"fedora\"", "43", "libntfs-3g89", "ntfs-3g-libs")]
    [InlineData("rocky", "9.5", "qemu-utils", "qemu-img")]
    [InlineData("other", "1", "libssl3", "libssl3")]
    public void Packages_have_the_names_of_the_distribution(string id, string version, string package, string name) =>
        NativeLibraries.Package(package, ["NAME=x", $"ID={id}", $"VERSION_ID={version}", "ID_LIKE=debian"]).ShouldBe(name);

    [Fact]
    public void A_library_is_found_where_it_was_loaded_from()
    {
        NativeLibraries.Load("libnothing.so.7")!.ShouldContain("libnothing.so.7");
        NativeLibraries.PathOf("libnothing").ShouldBeNull();
        NativeLibraries.Load("libhivex.so.0").ShouldBeNull();
        Path.GetFileName(NativeLibraries.PathOf("libhivex.so"))!.ShouldStartWith("libhivex.so.0");
    }
}
