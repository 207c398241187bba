using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Who opens what, by the classes of a hive.</summary>
public sealed class HandlerClassesTests : IDisposable
{
    private const string Weather = "Northlight.Weather_8pewgm0k42rsa", FullName = "Northlight.Weather_4.5.0.0_x64__8pewgm0k42rsa";
    private static readonly WindowsPath Path = WindowsPath.Of(@"Users\ivy\AppData\Local\Microsoft\Windows\UsrClass.dat");
    private static readonly HiveValue Nothing = HiveValue.FromString("", "");
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private HandlerClasses Read(Action<Hive> account, Action<Hive>? machine = null)
    {
        string Make(string name, Action<Hive> fill)
        {
            _folder.Write(name, MinimalHive.Create("ROOT", DateTimeOffset.UnixEpoch));
            HiveEdit.Change(_folder[name], fill);
            return _folder[name];
        }
        return machine is null ? HiveEdit.Read(Make("account", account), h => HandlerClasses.Read(h.Root, Path))
            : HiveEdit.Read(Make("machine", machine), m => HiveEdit.Read(Make("account", account), h => HandlerClasses.Read(h.Root, Path, m.Root)));
    }

    private static void Opens(Hive hive, string program) => hive.Create($@"{program}\shell\open\command").Set(HiveValue.FromString("", "program %1"));

    private static void OpenWith(Hive hive, string type, string program) =>
        hive.Create($@"{type}\OpenWithProgids").Set(new HiveValue(program, HiveValueType.None, Array.Empty<byte>()));

    [Fact]
    public void A_desktop_program_opens_what_names_its_command()
    {
        var read = Read(h =>
        {
            Opens(h, "Ferry.Document");
            OpenWith(h, ".ferry", "Ferry.Document");
            h.Create(".boat").Set(HiveValue.FromString("", "Ferry.Document"));
            h.Create(".ship").Set(HiveValue.FromString("", "Nobody.Document"));
            OpenWith(h, ".raft", "AppX1");
            Opens(h, "AppX1");
            h.Create(".empty").Set(Nothing);
            h.Create("plain").Set(Nothing);
        });
        read.Classic.Order(StringComparer.Ordinal).ShouldBe([".boat", ".ferry"]);
        read.Uses.ShouldBe([("AppX1", new ValueLocation(Path, @".raft\OpenWithProgids", "AppX1"))]);
        read.Schemes.ShouldBeEmpty();
        read.Owners.ShouldBeEmpty();
    }

    [Fact]
    public void The_machines_programs_open_what_an_account_names()
    {
        void Account(Hive h) => OpenWith(h, ".ferry", "Ferry.Document");
        Read(Account, m => Opens(m, "Ferry.Document")).Classic.ShouldBe([".ferry"]);
        Read(Account, m => m.Create("Ferry.Document")).Classic.ShouldBeEmpty();
    }

    [Fact]
    public void A_scheme_is_a_programs_by_its_command_and_packages_without()
    {
        var read = Read(h =>
        {
            foreach (string scheme in new[] { "ferry", "Weather", "nobody" })
                h.Create(scheme).Set(HiveValue.FromString("URL Protocol", ""));
            Opens(h, "ferry");
            h.Create("not.a.scheme").Set(HiveValue.FromString("URL Protocol", ""));
            h.Create($@"{Places.AccountPackages}\{FullName}\App\Capabilities\URLAssociations").Set(HiveValue.FromString("weather", "AppX2"));
            h.Create($@"{Places.AccountPackages}\{FullName}\Other\Capabilities\URLAssociations").Set(HiveValue.FromString("weather", "AppX3"));
            h.Create($@"{Places.AccountPackages}\no package\App\Capabilities\URLAssociations").Set(HiveValue.FromString("nobody", "AppX4"));
        });
        read.Classic.ShouldBe(["ferry"]);
        read.Schemes.Select(s => (s.Family.ToString(), s.Scheme)).ShouldBe([(Weather, "Weather")]);
    }

    [Fact]
    public void A_packages_program_says_whose_it_is()
    {
        var read = Read(h =>
        {
            h.Create(@"AppX1\Application").Set(HiveValue.FromString("AppUserModelID", $"{Weather}!App"));
            h.Create(@"APPX2\Application").Set(HiveValue.FromString("AppUserModelID", $"{Weather}!Other"));
            h.Create(@"AppX3\Application").Set(HiveValue.FromString("AppUserModelID", "nobody"));
            h.Create("AppX4");
            h.Create(@"Ferry.AppX\Application").Set(HiveValue.FromString("AppUserModelID", $"{Weather}!App"));
        });
        read.Owners.Select(o => (o.Key, o.Value.ToString())).Order().ShouldBe([("AppX1", Weather), ("APPX2", Weather)], ignoreOrder: true);
    }

    [Fact]
    public void A_name_that_cannot_be_written_is_nobodys()
    {
        string path = _folder.Write("odd", MinimalHive.Create("ROOT", DateTimeOffset.UnixEpoch));
        HiveEdit.Change(path, h => h.Create(@"AppX1Z\Application").Set(HiveValue.FromString("AppUserModelID", $"{Weather}!App")));
        byte[] content = File.ReadAllBytes(path);
        content[content.AsSpan().IndexOf("AppX1Z"u8) + 5] = 0;
        File.WriteAllBytes(path, content);
        HiveEdit.Read(path, h => HandlerClasses.Read(h.Root, Path)).Owners.ShouldBeEmpty();
    }

    public void Dispose() => _folder.Dispose();
}
