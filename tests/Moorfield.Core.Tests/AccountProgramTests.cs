using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Desktop programs that are only one account's: all that goes with them, and what keeps them from going.</summary>
public sealed class AccountProgramTests : IDisposable
{
    private const string Version = @"Software\Microsoft\Windows\CurrentVersion", Explorer = Version + @"\Explorer";
    private const string Folder = @"C:\Users\ivy\AppData\Local\Gull Notes";
    private const string Class = "{0A1B2C3D-0000-4000-8000-000000000042}", Stranger = "{0A1B2C3D-0000-4000-8000-000000000043}";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public AccountProgramTests() => _bench = new Bench(_folder, few: true);

    private string UserHive => Path.Combine(_bench.Root, "Users/ivy/NTUSER.DAT");

    private string Classes => Path.Combine(_bench.Root, "Users/ivy/AppData/Local/Microsoft/Windows/UsrClass.dat");

    private string SystemHive => Path.Combine(_bench.Root, "Windows/System32/config/SYSTEM");

    private void AddProgram(string name = "Gull Notes", string folder = Folder, Action<HiveKey>? more = null)
    {
        HiveEdit.Change(UserHive, hive =>
        {
            var key = hive.Create($@"{Version}\Uninstall\{name}");
            key.Set(HiveValue.FromString("DisplayName", name));
            key.Set(HiveValue.FromString("InstallLocation", folder));
            key.Set(HiveValue.FromString("UninstallString", $"\"{folder}\\remove.exe\" /x"));
            more?.Invoke(key);
        });
        if (folder.Length > 0)
            Write(folder[3..], "notes.exe");
    }

    private void Write(string folder, string name, string content = "x")
    {
        string place = Path.Combine(_bench.Root, folder.Replace('\\', '/'));
        Directory.CreateDirectory(place);
        File.WriteAllText(Path.Combine(place, name), content);
    }

    private static void Set(Hive hive, string key, string value, string text) => hive.Create(key).Set(HiveValue.FromString(value, text));

    private ImmutableArray<ProgramTraces> Traces()
    {
        using var target = _bench.Open();
        var system = target.Read([null])[0];
        return target.Trees!.With(null, tree => AccountPrograms.Read(tree, system, [.. system.DesktopPrograms.Where(p => p.Sid is not null)]));
    }

    private ProgramTraces Of(string name = "Gull Notes") => Traces().Single(t => t.Program.Name == name);

    private static IEnumerable<string> Told(ProgramTraces traces) => traces.Entries.Select(e => e switch
    {
        KeyLocation key => $"{key.Hive.Name} {key.Key}",
        ValueLocation value => $"{value.Hive.Name} {value.Key} : {value.Value}",
        var tree => ((TreeLocation)tree).Path.ToString(),
    });

    [Fact]
    public void All_that_the_account_has_of_it_goes_and_what_is_others_stays()
    {
        AddProgram();
        const string Exe = Folder + @"\notes.exe";
        HiveEdit.Change(UserHive, hive =>
        {
            Set(hive, $@"{Version}\Run", "Gull", $"\"{Exe}\" /tray");
            Set(hive, $@"{Version}\RunOnce", "Gull later", $"%LocalAppData%\\Gull Notes\\notes.exe");
            Set(hive, $@"{Version}\Run", "Other", @"C:\Users\ivy\AppData\Local\Gull Notes 2\notes.exe");
            foreach (string name in new[] { "Gull", "Other" })
                hive.Create($@"{Explorer}\StartupApproved\Run").Set(new HiveValue(name, HiveValueType.Binary, new byte[12]));
            Set(hive, $@"{Version}\App Paths\notes.exe", "", Exe);
            Set(hive, $@"{Version}\App Paths\other.exe", "", @"C:\Tools\other.exe");
            Set(hive, $@"Software\Clients\Mail\Gull Notes\shell\open\command", "", $"\"{Exe}\" /mail");
            Set(hive, @"Software\RegisteredApplications", "Gull Notes", @"Software\Clients\Mail\Gull Notes\Capabilities");
            Set(hive, @"Software\RegisteredApplications", "Other", @"Software\Clients\Mail\Gull Notes 2\Capabilities");
            Set(hive, $@"{Explorer}\Desktop\NameSpace\{Class}", "", "Gull");
            Set(hive, $@"{Explorer}\MyComputer\NameSpace\{Class}", "", "Gull");
            Set(hive, $@"{Explorer}\Desktop\NameSpace\{Stranger}", "", "Other");
            Set(hive, $@"{Explorer}\FileExts\.gull\UserChoice", "ProgId", "GullNotes.Note");
            Set(hive, $@"{Explorer}\FileExts\.txt\UserChoice", "ProgId", "txtfile");
            Set(hive, $@"{Explorer}\FileExts\.txt\OpenWithProgids", "GullNotes.Note", "");
            Set(hive, @"Software\Gull\Notes", "Where", Folder); // its settings are the person's
        });
        HiveEdit.Change(Classes, hive =>
        {
            Set(hive, $@"CLSID\{Class}\InprocServer32", "", Folder + @"\shell.dll");
            Set(hive, $@"CLSID\{Stranger}\InprocServer32", "", @"C:\Tools\shell.dll");
            Set(hive, $@"*\shellex\ContextMenuHandlers\Gull", "", Class);
            Set(hive, $@"Directory\Background\shellex\ContextMenuHandlers\{Class}", "", "");
            Set(hive, $@"*\shellex\ContextMenuHandlers\Other", "", Stranger);
            Set(hive, @"*\shell\Add to notes\command", "", $"\"{Exe}\" \"%1\"");
            Set(hive, @"*\shell\Other\command", "", @"C:\Tools\other.exe");
            Set(hive, @"GullNotes.Note\shell\open\command", "", $"\"{Exe}\" \"%1\"");
            Set(hive, @"GullNotes.Note\DefaultIcon", "", $"{Exe},1");
            Set(hive, @".gull", "", "GullNotes.Note");
            Set(hive, @".txt\OpenWithProgids", "GullNotes.Note", "");
            Set(hive, @".txt\OpenWithProgids", "txtfile", "");
            Set(hive, @"Applications\notes.exe\shell\open\command", "", Exe);
            Set(hive, @"Shared.Note\shell\open\command", "", @"C:\Tools\other.exe");
            Set(hive, @"Shared.Note\shell\gull\command", "", Exe);
            Set(hive, @"Local Settings\MuiCache", Exe, "Gull Notes");
        });
        string before = Tool.Read("find", _bench.Root, "-newermt", "2000-01-01", "-type", "f", "-exec", "sha256sum", "{}", ";");
        Told(Of()).Order(StringComparer.Ordinal).ShouldBe(new[]
        {
            @"Users\ivy\AppData\Local\Gull Notes",
            $@"NTUSER.DAT {Version}\Run : Gull", $@"NTUSER.DAT {Version}\RunOnce : Gull later", $@"NTUSER.DAT {Explorer}\StartupApproved\Run : Gull",
            $@"NTUSER.DAT {Version}\App Paths\notes.exe", $@"NTUSER.DAT {Version}\Uninstall\Gull Notes",
            @"NTUSER.DAT Software\Clients\Mail\Gull Notes", @"NTUSER.DAT Software\RegisteredApplications : Gull Notes",
            $@"NTUSER.DAT {Explorer}\Desktop\NameSpace\{Class}", $@"NTUSER.DAT {Explorer}\MyComputer\NameSpace\{Class}",
            $@"NTUSER.DAT {Explorer}\FileExts\.gull\UserChoice", $@"NTUSER.DAT {Explorer}\FileExts\.txt\OpenWithProgids : GullNotes.Note",
            $@"UsrClass.dat CLSID\{Class}", @"UsrClass.dat *\shellex\ContextMenuHandlers\Gull",
            $@"UsrClass.dat Directory\Background\shellex\ContextMenuHandlers\{Class}", @"UsrClass.dat *\shell\Add to notes",
            @"UsrClass.dat GullNotes.Note", @"UsrClass.dat .gull : ", @"UsrClass.dat .txt\OpenWithProgids : GullNotes.Note",
            @"UsrClass.dat Applications\notes.exe", @"UsrClass.dat Shared.Note\shell\gull",
        }.Order(StringComparer.Ordinal));
        Of().Costs.Single().Text.ShouldBe("ivy chose it to open .gull.");
        var removed = Remove("Gull Notes");
        removed.Verified.ShouldBeTrue();
        Directory.Exists(Path.Combine(_bench.Root, "Users/ivy/AppData/Local/Gull Notes")).ShouldBeFalse();
        HiveEdit.HasKey(Classes, $@"CLSID\{Class}").ShouldBeFalse();
        HiveEdit.HasKey(Classes, $@"CLSID\{Stranger}").ShouldBeTrue();
        _bench.Undo(1).Verified.ShouldBeTrue();
        Tool.Read("find", _bench.Root, "-newermt", "2000-01-01", "-type", "f", "-exec", "sha256sum", "{}", ";").ShouldBe(before);
    }

    private Outcome Remove(string name)
    {
        using var target = _bench.Open();
        var removal = new RemovalOperation(target, target.Read([null]), [], systems => systems.Select(s =>
            new RemovalRequest([], new Audience([Demo.Sid("ivy")], Newcomers: false))
            { Programs = [.. DesktopProgramGroup.Of(s).Where(p => p.Name == name)] }));
        var outcome = removal.CarryOut(removal.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()) { AcceptsCosts = true })!;
        outcome.Discrepancies.ShouldBeEmpty();
        return outcome;
    }

    [Theory]
    [InlineData("SOFTWARE", @"Microsoft\Windows\CurrentVersion\Run", "x", Folder + @"\notes.exe /all", "x starts it for everyone")]
    [InlineData("SOFTWARE", @"Microsoft\Windows\CurrentVersion\App Paths\notes.exe", "", Folder + @"\notes.exe", "leads into its folder")]
    [InlineData("SOFTWARE", @"Microsoft\Windows\CurrentVersion\SharedDLLs", Folder + @"\shell.dll", "1", "leads into its folder")]
    [InlineData("SOFTWARE", @"Classes\CLSID\{0}\InprocServer32", "", "rundll32 \"C:/Users/ivy/AppData/Local/Gull Notes/shell.dll\",Go", "leads into")]
    [InlineData("SYSTEM", @"ControlSet001\Control\Print", "Path", @"C:\Tools;" + Folder, "leads into its folder")]
    [InlineData("SYSTEM", @"ControlSet001\Services\Gull", "ImagePath", "\"" + Folder + "\\service.exe\" -run", "the service Gull runs from it")]
    [InlineData("../../../Users/rowan/NTUSER.DAT", @"Software\Other", "Path", Folder + @"\notes.exe", "leads into its folder")]
    [InlineData("../../../Users/Default/NTUSER.DAT", @"Software\Other", "Path", "@" + Folder + @"\notes.exe,-2", "leads into its folder")]
    [InlineData("../../../Users/ivy/NTUSER.DAT", Version + @"\Uninstall\Twin", "UninstallString", "\"" + Folder + "\\twin.exe\"",
        "is removed by a file")]
    [InlineData("../../../Users/ivy/NTUSER.DAT", Explorer + @"\User Shell Folders", "Personal", Folder + @"\Documents", "where people keep files")]
    [InlineData("SOFTWARE", @"Microsoft\Windows\CurrentVersion\Run", "x", Folder + @"2\notes.exe", null)]
    [InlineData("SOFTWARE", @"Microsoft\Windows\CurrentVersion\Run", "x", @"C:\Users\ivy\AppData\Local\Gull", null)]
    [InlineData("SYSTEM", @"ControlSet001\Services\SharedAccess\Rules", "{1}", "v2.30|Action=Allow|App=" + Folder + @"\notes.exe|", null)]
    [InlineData("SOFTWARE", @"Microsoft\Windows\CurrentVersion\Notifications\S-1-5-21", "x", Folder, null)]
    public void What_others_need_of_it_keeps_it(string hive, string key, string value, string text, string? obstacle)
    {
        AddProgram();
        if (key.Contains("S-1-5-21", StringComparison.Ordinal))
            key = $@"Microsoft\Windows\CurrentVersion\Notifications\{Demo.Sid("ivy")}";
        HiveEdit.Change(Path.Combine(_bench.Root, "Windows/System32/config", hive), h => Set(h, key, value, text));
        var traces = Of();
        if (obstacle is null)
            traces.Obstacles.ShouldBeEmpty();
        else
            traces.Obstacles.ShouldHaveSingleItem().ShouldContain(obstacle);
        traces.Entries.IsEmpty.ShouldBe(obstacle is not null);
    }

    [Fact]
    public void Programs_that_cannot_be_told_apart_from_others_stay()
    {
        AddProgram("Far", @"C:\Tools\Far");
        AddProgram("Nowhere", "");
        AddProgram("Papers", @"C:\Users\ivy\Documents\Papers");
        AddProgram("Windows", @"C:\Users\ivy\AppData\Local\Microsoft\Windows");
        AddProgram("Around", @"C:\Users\ivy\AppData\Local\Microsoft\Windows\Start");
        AddProgram("Roams", @"C:\Users\ivy\AppData\Roaming\Microsoft\Roams");
        AddProgram("Unproven", @"C:\Users\ivy\AppData\Local\Unproven", k => k.Set(HiveValue.FromString("UninstallString", @"C:\Tools\x.exe")));
        AddProgram("Product", @"C:\Users\ivy\AppData\Local\Product", k => k.Set(HiveValue.FromDWord("WindowsInstaller", 1)));
        HiveEdit.Change(UserHive, h =>
        {
            var key = h.Create($@"{Version}\Uninstall\{Class}");
            key.Set(HiveValue.FromString("DisplayName", "Installed"));
            key.Set(HiveValue.FromString("InstallLocation", @"C:\Users\ivy\AppData\Local\Installed"));
            key.Set(HiveValue.FromDWord("WindowsInstaller", 1));
        });
        AddProgram("Inner", @"C:\Users\ivy\AppData\Local\Product\Inner");
        AddProgram("Short", @"C:\Users\ivy\AppData\Local\SHORTN~1");
        AddProgram("Linked", @"C:\Users\ivy\AppData\Local\Linked");
        AddProgram("Behind", @"C:\Users\ivy\AppData\Local\Joined\Behind");
        foreach (string name in new[] { "Linked", "Joined" })
        {
            string place = Path.Combine(_bench.Root, "Users/ivy/AppData/Local", name);
            Directory.Delete(place, recursive: true);
            Directory.CreateSymbolicLink(place, "../../../../Program Files");
        }
        Traces().Where(t => t.Program.Sid == Demo.Sid("ivy")).Select(t => $"{t.Program.Name}: {string.Join(", ", t.Obstacles)}")
            .Order(StringComparer.Ordinal).ShouldBe(
        [
            @"Around: its folder Users\ivy\AppData\Local\Microsoft\Windows\Start may hold more than the program",
            @"Behind: Users\ivy\AppData\Local\Joined is a link, and its files lie elsewhere",
            @"Far: its files lie in Tools\Far, outside of the account's profile", "Inner: Product lies in the same folder",
            "Installed: Windows Installer put it there and keeps its own records of it",
            @"Linked: Users\ivy\AppData\Local\Linked is a link, and its files lie elsewhere", "Nowhere: nothing says which folder is its own",
            @"Papers: its folder Users\ivy\Documents\Papers may hold more than the program", "Product: Inner lies in the same folder",
            @"Roams: its folder Users\ivy\AppData\Roaming\Microsoft\Roams may hold more than the program",
            "Short: nothing says which folder is its own",
            @"Unproven: its folder Users\ivy\AppData\Local\Unproven may hold more than the program",
            @"Windows: its folder Users\ivy\AppData\Local\Microsoft\Windows may hold more than the program",
        ]);
    }

    [Fact]
    public void A_start_entry_shows_whose_a_folder_is_as_well()
    {
        AddProgram(more: k => k.Set(HiveValue.FromString("UninstallString", @"C:\Tools\x.exe")));
        Of().Obstacles.ShouldHaveSingleItem().ShouldContain("may hold more than the program");
        HiveEdit.Change(UserHive, h => Set(h, $@"{Version}\Run", "Gull", Folder + @"\notes.exe"));
        Of().Obstacles.ShouldBeEmpty();
    }

    [Fact]
    public void A_task_of_the_account_stays_and_is_named_and_one_of_the_machine_keeps_it()
    {
        AddProgram();
        Task("Gull of ivy", Demo.Sid("ivy"));
        Of().Obstacles.ShouldBeEmpty();
        Of().Kept.ShouldBe(["The scheduled task 'Gull of ivy' stays and starts nothing any more."]);
        Told(Of()).ShouldNotContain(t => t.Contains("Tasks", StringComparison.Ordinal));
        Task("Gull of all", "S-1-5-18");
        Of().Obstacles.ShouldBe(["the scheduled task 'Gull of all', which is not the account's, starts it"]);

        void Task(string name, string principal) => Write(@"Windows\System32\Tasks", name, "<Task xmlns=\"http://schemas.microsoft.com/windows/"
            + $"2004/02/mit/task\"><Principals><Principal><UserId>{principal}</UserId></Principal></Principals><Actions><Exec>"
            + $"<Command>{Folder}\\notes.exe</Command></Exec></Actions></Task>");
    }

    [Fact]
    public void Peoples_files_stay_and_what_they_lose_is_said()
    {
        AddProgram();
        HiveEdit.Change(Classes, h =>
        {
            Set(h, $@"CLSID\{Class}\DefaultIcon", "", Folder + @"\notes.exe,-3");
            Set(h, $@"CLSID\{Class}\Instance\InitPropertyBag", "TargetFolderPath", @"C:\Users\ivy\Gulls");
        });
        HiveEdit.Change(UserHive, h =>
        {
            Set(h, $@"Software\SyncEngines\Providers\Gull", "UrlNamespace", "x");
            Set(h, $@"Software\SyncEngines\Providers\Gull", "Icon", Folder + @"\notes.exe");
            Set(h, $@"Software\SyncEngines\Providers\Gull", "MountPoint", @"C:\Users\ivy\Flock");
            Set(h, $@"{Explorer}\User Shell Folders", "Personal", @"%USERPROFILE%\Gulls\Papers");
            Set(h, $@"{Explorer}\User Shell Folders", "My Pictures", @"%USERPROFILE%\Gulls");
            Set(h, $@"{Explorer}\User Shell Folders", "My Music", @"%USERPROFILE%\Music");
        });
        HiveEdit.Change(_bench.Software, h =>
        {
            string root = $@"Microsoft\Windows\CurrentVersion\Explorer\SyncRootManager\Gull!{Demo.Sid("ivy")}!1";
            Set(h, root, "IconResource", Folder + @"\notes.exe,-3");
            Set(h, root + @"\UserSyncRoots", Demo.Sid("ivy"), @"C:\Users\ivy\Nest");
            Set(h, root + @"\UserSyncRoots", Demo.Sid("rowan"), @"C:\Users\rowan\Nest");
        });
        Write(@"Users\ivy\Gulls", "here.txt");
        Write(@"Users\ivy\Gulls\Deep", "here as well.txt");
        File.CreateSymbolicLink(Path.Combine(_bench.Root, "Users/ivy/Gulls/Deep/away.txt"), "unsupported reparse tag 0x9000001a");
        var traces = Of();
        traces.Obstacles.ShouldBeEmpty();
        traces.Kept.Select(k => k[..k.IndexOf(" stays", StringComparison.Ordinal)]).Order(StringComparer.Ordinal).ShouldBe(
            [@"Users\ivy\Flock", @"Users\ivy\Gulls", @"Users\ivy\Nest"]);
        traces.Costs.Select(c => (c.Code, c.Text)).ShouldBe(
        [
            ("foldersRedirected", @"The Gulls and Papers folders of ivy lie in Users\ivy\Gulls, which nothing synchronises any more."),
            ("filesElsewhere", @"The contents of 1 file in Users\ivy\Gulls are not on this disk, and nothing else can fetch them."),
        ], ignoreOrder: true);
        Remove("Gull Notes").Verified.ShouldBeTrue();
        File.Exists(Path.Combine(_bench.Root, "Users/ivy/Gulls/here.txt")).ShouldBeTrue();
    }

    [Theory]
    [InlineData(Folder)]
    [InlineData(@"C:\Users\ivy\AppData\Local\GULLNO~1\Notes")]
    [InlineData(Folder + @"\Notes")]
    [InlineData(@"C:\Users\ivy\AppData\Local")]
    public void A_folder_with_peoples_files_that_is_not_apart_keeps_it(string people)
    {
        AddProgram();
        HiveEdit.Change(UserHive, h =>
        {
            Set(h, $@"{Explorer}\SyncRootManager\Gull", "IconResource", Folder + @"\notes.exe");
            Set(h, $@"{Explorer}\SyncRootManager\Gull\UserSyncRoots", Demo.Sid("ivy"), people);
        });
        Of().Obstacles.ShouldHaveSingleItem().ShouldMatch("where people keep files, (is not apart from|may be in) its folder");
    }

    [Fact]
    public void What_is_listed_without_its_folder_goes_from_the_lists()
    {
        AddProgram();
        Directory.Delete(Path.Combine(_bench.Root, "Users/ivy/AppData/Local/Gull Notes"), recursive: true);
        Told(Of()).ShouldBe([$@"NTUSER.DAT {Version}\Uninstall\Gull Notes"]);
        Remove("Gull Notes").Verified.ShouldBeTrue();
        _bench.Undo(1).Verified.ShouldBeTrue();
    }

    /// <summary>As a key of a damaged hive that leads back to itself.</summary>
    private sealed class Circle : IRegistryKey
    {
        public string Name => "again";

        public DateTimeOffset? LastWritten => null;

        public IReadOnlyList<IRegistryKey> Children() => [this];

        public IRegistryKey? Child(string name) => this;

        public ImmutableArray<HiveValue> Values() => [];

        public HiveValue? Value(string name) => null;
    }

    [Fact]
    public void Keys_that_lead_in_a_circle_come_to_an_end() =>
        Should.Throw<InvalidDataException>(() => PathMentions.Find(new Circle(), [WindowsPath.Of("x")], null).Count()).Message
            .ShouldContain("deeper than 512");

    [Fact]
    public void Nothing_goes_while_a_hive_that_may_need_it_cannot_be_read()
    {
        AddProgram();
        using var target = _bench.Open();
        var system = target.Read([null])[0];
        File.WriteAllText(Path.Combine(_bench.Root, "Users/rowan/NTUSER.DAT"), "no hive");
        var traces = target.Trees!.With(null, tree =>
            AccountPrograms.Read(tree, system, [system.DesktopPrograms.Single(p => p.Name == "Gull Notes")]));
        traces.Single().Obstacles.ShouldBe([@"Users\rowan\NTUSER.DAT cannot be read, so what else needs it is not known"]);
    }

    [Fact]
    public void What_installs_it_again_at_the_accounts_sign_in_goes_as_well()
    {
        AddProgram("NotesSetup.exe");
        HiveEdit.Change(UserHive, h => Set(h, $@"{Version}\Run", "Setup", @"C:\Windows\System32\NotesSetup.exe /first"));
        Told(Of("NotesSetup.exe")).ShouldContain($@"NTUSER.DAT {Version}\Run : Setup");
    }

    [Fact]
    public void Shortcuts_go_with_the_folder_of_the_start_menu_that_holds_nothing_else()
    {
        const string Menu = "Users/rowan/AppData/Roaming/Microsoft/Windows/Start Menu/Programs";
        Told(Of("Card Counter")).Where(t => t.StartsWith("Users", StringComparison.Ordinal)).ShouldBe(
        [
            (Menu + "/Pennywhistle Games").Replace('/', '\\'), (Menu + "/Startup/Card Counter.lnk").Replace('/', '\\'),
            @"Users\rowan\AppData\Local\CardCounter",
        ], ignoreOrder: true);
        const string Marks = Explorer + @"\StartupApproved\StartupFolder";
        HiveEdit.Change(Path.Combine(_bench.Root, "Users/rowan/NTUSER.DAT"), h =>
        {
            foreach (string name in new[] { "Card Counter.lnk", "Other.lnk" })
                h.Create(Marks).Set(new HiveValue(name, HiveValueType.Binary, new byte[12]));
        });
        Told(Of("Card Counter")).Where(t => t.Contains("StartupApproved", StringComparison.Ordinal))
            .ShouldBe([$"NTUSER.DAT {Marks} : Card Counter.lnk"]);
        Directory.CreateDirectory(Path.Combine(_bench.Root, "Users/rowan/Desktop"));
        File.Copy(Path.Combine(_bench.Root, Menu, "Pennywhistle Games/Card Counter.lnk"), Path.Combine(_bench.Root, "Users/rowan/Desktop/Cards.lnk"));
        Write("Users/rowan/Desktop", "broken.lnk");
        Write($"{Menu}/Pennywhistle Games", "Read me.txt");
        Told(Of("Card Counter")).Where(t => t.StartsWith("Users", StringComparison.Ordinal) && t.EndsWith(".lnk", StringComparison.Ordinal)).ShouldBe(
        [
            (Menu + "/Pennywhistle Games/Card Counter.lnk").Replace('/', '\\'), (Menu + "/Startup/Card Counter.lnk").Replace('/', '\\'),
            @"Users\rowan\Desktop\Cards.lnk",
        ], ignoreOrder: true);
    }

    [Fact]
    public void Who_is_not_meant_keeps_it_and_what_is_not_known_stays()
    {
        var system = Bench.Demonstration;
        var tide = DesktopProgramGroup.Of(system).Single(p => p.Name == "Saltmarsh Tide Folder");
        var plan = RemovalPlanner.Plan(system, new RemovalRequest([], new Audience([Demo.Sid("ivy")], Newcomers: false)) { Programs = [tide] });
        plan.Programs.Single().StaysBecause.ShouldBe("ivy has it, and only its own uninstaller on the running system removes it.");
        plan.Changes.ShouldBeEmpty();
        var coming = new RemovalRequest([], new Audience([], Newcomers: true), AllowReturn: true) { Programs = [tide] };
        RemovalPlanner.Plan(system, coming).Programs.Single().ShouldSatisfyAllConditions(
            p => p.Blocks.ShouldBeEmpty(), p => p.Entries.ShouldHaveSingleItem(), p => p.HasEffect.ShouldBeTrue());
        var good = new ProgramTraces(tide.Entries.Single(e => e.Sid == Demo.Sid("ivy")), [new KeyLocation(WindowsPath.Of("x"), "y")], 1, [], [], []);
        var bad = new ProgramTraces(tide.Entries.Single(e => e.Sid == Demo.Sid("rowan")), [], 0, ["it is odd", "it is new"], [], []);
        var both = new RemovalRequest([], new Audience([Demo.Sid("ivy"), Demo.Sid("rowan")], Newcomers: false))
        { Programs = [tide], ProgramTraces = [bad, good] };
        plan = RemovalPlanner.Plan(system, both);
        plan.Programs.Single().Leaving.ShouldBe([good]);
        plan.Programs.Single().StaysBecause.ShouldBe(
            "rowan has it, and it is odd and it is new, so only its own uninstaller on the running system removes it.");
        plan.Intents(system).Single().ShouldSatisfyAllConditions(
            i => i.Sids.ShouldBe([Demo.Sid("ivy")]), i => i.Newcomers.ShouldBeFalse(), i => i.Subject.ShouldBe("Saltmarsh Tide Folder"));
        var expected = new RemovalExpectation(system, plan);
        expected.Check(system, _ => false).Single().Text.ShouldBe("Saltmarsh Tide Folder is still there for an account.");
        expected.Check(system with { DesktopPrograms = [] }, _ => false).Count(d => d.Text.EndsWith(" is gone.", StringComparison.Ordinal))
            .ShouldBe(6);
    }

    public void Dispose() => _folder.Dispose();
}
