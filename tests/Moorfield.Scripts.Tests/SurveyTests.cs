using System.Collections.Immutable;
using System.IO.Compression;
using System.Text;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using CsCheck;
using Json.Schema;
using Moorfield.Core.Assessment;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

public sealed class SurveyTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static ScriptResult Run(MadeUpMachine machine, bool constrained = false) =>
        Shell.Run(machine, SurveyScript.Write(KnownGuards.All), @"-To C:\", constrained);

    private static SystemSnapshot Read(string file, IReadOnlyCollection<Guard>? guards = null)
    {
        using var target = SurveyTarget.TryOpen(file).ShouldNotBeNull();
        return target.Read([null], guards ?? KnownGuards.All)[0];
    }

    private static string File(MadeUpMachine machine) => Directory.GetFiles(machine.Drive, "survey-*.json").ShouldHaveSingleItem();

    private MadeUpMachine Few() => MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, "few"));

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void What_a_survey_tells_is_what_the_volume_tells(bool constrained)
    {
        var machine = MadeUpMachine.From(Demo.World, _folder);
        string[] before = [.. machine.Registry.Lines()];
        var result = Run(machine, constrained);
        result.Errors.ShouldBeEmpty();
        result.ExitCode.ShouldBe(0);
        machine.Calls.ShouldBeEmpty();
        machine.Registry.Lines().ShouldBe(before);
        var survey = Read(File(machine));
        using var volume = Target.Open(_folder["machine"], new WriteInterceptor());
        var disk = volume.Read([null], KnownGuards.All)[0];
        Lines(survey).Except(Lines(disk)).ShouldBeEmpty();
        Lines(disk).Except(Lines(survey)).ShouldBeEmpty();
        // Of what starts or installs programs, a survey tells what the registry of the machine and of signed-in accounts holds.
        static string Told(DesktopProgram program) => $"{program with { Starts = [] }}: "
            + string.Join("; ", program.Starts.Where(s => s.Kind is StartKind.Run or StartKind.RunOnce or StartKind.ActiveSetup)
                .Where(s => s.Scope != TraceScope.Newcomers || s.Kind == StartKind.ActiveSetup));
        var told = survey.DesktopPrograms.Select(Told).ToList();
        told.ShouldBe(disk.DesktopPrograms.Where(p => !p.Newcomers || p.Starts.Any(s => s.Kind == StartKind.ActiveSetup)).Select(Told));
        told.Count(t => t.Contains("Kind = Run", StringComparison.Ordinal)).ShouldBe(3);
        told.Count(t => t.Contains("Kind = ActiveSetup", StringComparison.Ordinal)).ShouldBe(2);
        told.ShouldContain(t => t.Contains("IsOff = True", StringComparison.Ordinal), "rowan switched one off");
        survey.Blocks.ShouldBe(disk.Blocks);
        survey.ReadGaps.ShouldBeEmpty();
        var everyone = AudienceParser.Parse(["accounts"], disk);
        ImmutableArray<Guard> values = [.. KnownGuards.All.Where(g => !g.IsAbsence)];
        GuardStates.Of(survey, values, everyone).ShouldBe(GuardStates.Of(disk, values, everyone));
        GuardStates.Of(survey, KnownGuards.All, everyone).Where(s => !s.IsKnown).Select(s => s.Guard.Name).ShouldBe(["setup-fetched-apps"]);
    }

    /// <summary>What is told of each package, for people.</summary>
    private static List<string> Lines(SystemSnapshot system)
    {
        var assessment = new RemovalAssessment(system);
        return
        [
            $"{system.Product} {system.EditionId} {system.Release} {system.Build} {system.Computer} {system.Manufacturer} {system.MachineId}",
            // What only the state repository remembers, a running machine does not tell.
            .. system.Packages.Where(p => p.IsHeld || p.HasFiles).Select(p =>
                $"{p.FullName} {p.DisplayName} {p.Publisher} {p.Role} {p.Origin} {p.Bytes} {p.Newcomers} {p.Blocked} {string.Join(',', p.Accounts)}; "
                    + $"{assessment.Of(p).Standing}: {string.Join(' ', assessment.Of(p).Reasons.Select(r => r.Text))}"),
        ];
    }

    [Fact]
    public void What_a_survey_could_not_see_is_not_known_and_never_free()
    {
        var machine = MadeUpMachine.From(Demo.World, _folder);
        machine.SignOut(Demo.Sid("rowan"));
        Run(machine).ExitCode.ShouldBe(3);
        var system = Read(File(machine));
        system.Notes.ShouldContain(n => n.Code == "signedOut" && n.Text.Contains("rowan was signed out", StringComparison.Ordinal));
        var assessment = new RemovalAssessment(system);
        foreach (var package in system.Packages.Where(p => p.Accounts.Contains(Demo.Sid("rowan")) && p.Role == PackageRole.Application
            && p.Manifest is { } m && m.FileTypes.Concat(m.Schemes).Any()))
        {
            var verdict = assessment.Of(package);
            verdict.Standing.ShouldNotBe(PackageStanding.Free, package.DisplayName);
            verdict.Costs.ShouldContain(c => c.Code == "notKnown" && c.Text.Contains("rowan", StringComparison.Ordinal), package.DisplayName);
        }
        // What is only for others, or opens nothing, is judged as ever.
        assessment.Of(system.Packages.First(p => p.DisplayName == "Films")).Reasons.ShouldNotContain(r => r.Code == "notKnown");
        assessment.Of(system.Packages.First(p => p.DisplayName == "Clock")).Standing.ShouldBe(PackageStanding.Free);
        GuardStates.Of(system, KnownGuards.All, AudienceParser.Parse(["rowan"], system)).ShouldAllBe(g => g.Guard.Hive == GuardHive.Machine || !g.IsKnown);
        GuardStates.Of(system, KnownGuards.All, AudienceParser.Parse(["ivy"], system)).ShouldAllBe(g => g.IsKnown != g.Guard.IsAbsence);
    }

    [Fact]
    public void Folders_that_could_not_be_read_leave_sizes_data_and_needs_open()
    {
        var machine = Few();
        Run(machine).ExitCode.ShouldBe(0);
        var document = JsonNode.Parse(System.IO.File.ReadAllText(File(machine)))!;
        var files = document["files"]!.AsArray();
        foreach (var file in files.ToList())
        {
            string path = (string)file!["path"]!;
            if (path.Contains(@"WindowsApps\Northlight.Calculator", StringComparison.Ordinal))
            {
                if (path.EndsWith(".xml", StringComparison.Ordinal))
                    files.Remove(file);
                else
                    file["unread"] = true;
            }
        }
        files.Add(new JsonObject { ["path"] = @"C:\Users\ivy\AppData\Local\Packages", ["unread"] = true });
        System.IO.File.WriteAllText(_folder["changed.json"], document.ToJsonString());
        var system = Read(_folder["changed.json"]);
        var assessment = new RemovalAssessment(system);
        var calculator = system.Packages.Single(p => p.FullName.Name == "Northlight.Calculator");
        calculator.Withheld.ShouldBe(1); // "at least"
        assessment.Of(calculator).Costs.Single().Text.ShouldBe(
            "Its manifest could not be read, so it is not known what it opens and offers. What ivy has in it is not known.");
        assessment.Of(system.Packages.First(p => p.FullName.Name == "Northlight.Weather")).Costs.ShouldContain(c => c.Code == "notKnown");
        // What the calculator needs is not known either: no framework is taken for idle.
        foreach (var framework in system.Packages.Where(p => p.Role == PackageRole.Framework))
            assessment.Of(framework).Standing.ShouldBe(PackageStanding.Essential);
    }

    [Fact]
    public void A_machine_that_does_not_list_its_packages_leaves_everything_open()
    {
        var machine = Few();
        machine.IsBroken = true;
        Run(machine).ExitCode.ShouldBe(3);
        var system = Read(File(machine));
        system.Notes.ShouldContain(n => n.Code == "packages");
        var assessment = new RemovalAssessment(system);
        system.Packages.Where(p => p.Role == PackageRole.Application && p.IsHeld).ShouldNotBeEmpty();
        system.Packages.Where(p => p.Role == PackageRole.Application && p.IsHeld)
            .ShouldAllBe(p => assessment.Of(p).Costs.Any(c => c.Code == "notKnown"));
    }

    [Fact]
    public void A_survey_that_cannot_be_written_says_so_and_leaves_nothing()
    {
        var machine = Few();
        var result = Shell.Run(machine, SurveyScript.Write(KnownGuards.All), @"-To C:\nowhere");
        result.ExitCode.ShouldBe(1, string.Join('\n', result.Errors));
        result.Output.ShouldHaveSingleItem().ShouldContain("could not be written");
        Directory.GetFiles(machine.Drive, "survey-*").ShouldBeEmpty();
    }

    [Fact]
    public void A_guard_that_was_not_looked_up_is_not_known()
    {
        var machine = Few();
        Run(machine);
        var guard = new Guard(null, GuardHive.Machine, @"Policies\Saltmarsh", HiveValue.FromDWord("Quiet", 1), null, null);
        var system = Read(File(machine), [guard, .. KnownGuards.All]);
        var brief = Brief.Empty with { For = ["everyone"], Guards = [guard, KnownGuards.All[0]] };
        var plan = RemovalPlanner.Plan(system, BriefPlanner.ToRequest(brief, system, []));
        BriefPlanner.Differences(plan, system, _ => false, _ => false).Select(d => d.Code).ShouldBe(["guardNotKnown", "guardNotSet"]);
    }

    [Fact]
    public void A_survey_holds_to_its_schema()
    {
        var machine = Few();
        machine.SignOut(Demo.Sid("ivy"));
        Run(machine, constrained: true);
        var schema = JsonSchema.FromFile(Path.Combine(Root(), "docs/survey.schema.json"));
        var result = schema.Evaluate(JsonNode.Parse(System.IO.File.ReadAllText(File(machine))),
            new EvaluationOptions { OutputFormat = OutputFormat.List });
        result.IsValid.ShouldBeTrue(string.Join('\n', result.Details.Where(d => d.HasErrors).Select(d
            => $"{d.InstanceLocation} {string.Join(' ', d.Errors!.Values)}")));
    }

    [Fact]
    public void Any_text_of_a_machine_arrives_as_it_was()
    {
        var machine = Few();
        string[] texts = ["plain", "\"quoted\" \\ back\\slash", "two\r\nlines\tand tab", "Ünïcode \u2018quotes\u2019 \U0001F6A2",
            "\0\u0001\u001f\u007f", "\u212a\u017f",
            "]]>--> '; exit", "{\"json\":1}", ""];
        var programs = machine.Software.Create(@"Microsoft\Windows\CurrentVersion\Uninstall");
        foreach (var (i, text) in texts.Index())
        {
            var key = programs.Create($"Odd{i}");
            key.Values["DisplayName"] = HiveValue.FromString("DisplayName", $"odd {i}");
            key.Values["DisplayVersion"] = HiveValue.FromString("DisplayVersion", text);
        }
        programs.Create("Half").Values["DisplayName"] = HiveValue.FromString("DisplayName", "half \ud83d pair");
        Run(machine).ExitCode.ShouldBe(0);
        var found = Read(File(machine)).DesktopPrograms.ToDictionary(p => p.Name, p => p.Version);
        foreach (var (i, text) in texts.Index())
            found[$"odd {i}"].ShouldBe(text.Split('\0')[0]);
        found.Keys.ShouldContain("half \ufffd pair");
    }

    [Theory]
    [InlineData("utf-8", true)]
    [InlineData("utf-16", true)]
    [InlineData("utf-16", false)]
    [InlineData("utf-16BE", true)]
    public void Other_encodings_are_read_as_well(string name, bool mark)
    {
        var machine = Few();
        Run(machine);
        var encoding = Encoding.GetEncoding(name);
        string text = System.IO.File.ReadAllText(File(machine));
        System.IO.File.WriteAllBytes(_folder["other.json"], [.. mark ? encoding.Preamble : [], .. encoding.GetBytes(text)]);
        Lines(Read(_folder["other.json"])).ShouldBe(Lines(Read(File(machine))));
    }

    [Theory]
    [InlineData("{\"schema\":\"moorfield.survey/2\"}", "its schema is 'moorfield.survey/2'")]
    [InlineData("{\"schema\":\"moorfield.survey/1\"", "damaged or was cut off")]
    [InlineData("{\"schema\":\"moorfield.survey/1\",\"computer\":\"X\"}", "holds no Windows")]
    [InlineData("{\"schema\":\"moorfield.survey/1\",\"packages\":3}", "cannot be read at packages")]
    [InlineData("{\"schema\":\"moorfield.survey/1\",\"registry\":[{\"hive\":\"machine\",\"keys\":[{\"key\":\"a\\\\\\\\b\"}]}]}",
        "registry key that cannot be one")]
    [InlineData("{\"schema\":\"moorfield.survey/1\",\"made\":\"yesterday\"}", "cannot be read at made")]
    public void What_is_no_survey_is_refused_in_one_sentence(string text, string says)
    {
        System.IO.File.WriteAllText(_folder["odd.json"], text);
        var e = Should.Throw<MoorfieldException>(() => Read(_folder["odd.json"]));
        e.Kind.ShouldBe(ErrorKind.InvalidUsage);
        e.Message.ShouldContain(says);
        e.Message.ShouldNotContain("\n");
    }

    [Fact]
    public void A_survey_that_nests_without_end_is_refused()
    {
        System.IO.File.WriteAllText(_folder["deep.json"], "{\"schema\":\"moorfield.survey/1\",\"other\":" + new string('[', 100_000) + "}");
        Should.Throw<MoorfieldException>(() => Read(_folder["deep.json"])).Kind.ShouldBe(ErrorKind.InvalidUsage);
    }

    [Fact]
    public void A_spoilt_survey_is_read_or_refused_and_nothing_else()
    {
        var machine = Few();
        Run(machine);
        byte[] whole = System.IO.File.ReadAllBytes(File(machine));
        string[] tokens = ["null", "-1", "1e99", "\"\"", "\"\\ud800\"", "[]", "{}", "true", "\"C:\\\\..\\\\..\\\\x\"", "\"\\\\\\\\server\\\\x\"",
            "99999999999999999999"];
        Gen.Select(Gen.Int[0, whole.Length - 1], Gen.Int[0, 3], Gen.Int[0, tokens.Length - 1], Gen.Byte).Sample((at, kind, token, value) =>
        {
            byte[] spoilt = kind switch
            {
                0 => whole[..at],
                1 => [.. whole[..at], value, .. whole[(at + 1)..]],
                _ => Replaced(whole, at, tokens[token]),
            };
            string file = _folder["spoilt.json"];
            System.IO.File.WriteAllBytes(file, spoilt);
            try
            {
                using var target = SurveyTarget.TryOpen(file);
                var system = target?.Read([null], KnownGuards.All)[0];
                if (system is not null)
                    _ = system.Packages.Select(new RemovalAssessment(system).Of).ToList();
            }
            catch (MoorfieldException e)
            {
                e.Message.ShouldNotContain("\n");
            }
        }, iter: 150, threads: 1);
    }

    /// <summary>Puts something else in the place of the value that begins behind an offset.</summary>
    private static byte[] Replaced(byte[] whole, int at, string token)
    {
        int colon = Array.IndexOf(whole, (byte)':', at);
        int end = colon < 0 ? -1 : Array.FindIndex(whole, colon, b => b is (byte)',' or (byte)'}' or (byte)']');
        return end < 0 ? whole[..at] : [.. whole[..(colon + 1)], .. Encoding.UTF8.GetBytes(token), .. whole[end..]];
    }

    /// <summary>Manifests are made as long as real ones are.</summary>
    [Fact]
    public void A_survey_of_200_packages_and_5_accounts_stays_below_10_MB()
    {
        const int UsualLength = 16 << 10;
        var machine = MadeUpMachine.From(World.Load().Many(200, 5) with { SystemFiles = 12 }, _folder);
        foreach (string manifest in Directory.GetFiles(machine.Drive, "AppxManifest.xml", SearchOption.AllDirectories))
        {
            string text = System.IO.File.ReadAllText(manifest);
            System.IO.File.WriteAllText(manifest, text + $"<!--{new string('x', Math.Max(0, UsualLength - text.Length))}-->");
        }
        Run(machine).ExitCode.ShouldBe(0);
        var survey = new FileInfo(File(machine));
        TestContext.Current.SendDiagnosticMessage($"{survey.Length:N0} bytes");
        survey.Length.ShouldBeInRange(3_000_000, 10_000_000);
        Read(survey.FullName).Packages.Length.ShouldBeGreaterThanOrEqualTo(200);
        if (Environment.GetEnvironmentVariable("MOORFIELD_KEEP_SURVEY") is { Length: > 0 } keep)
            survey.CopyTo(keep, overwrite: true);
    }

    /// <summary>Three counters of the demo, as the script itself surveys them; MOORFIELD_WRITE_SURVEYS=1 writes them anew.</summary>
    [Theory]
    [InlineData("COUNTER-03")]
    [InlineData("COUNTER-11")]
    [InlineData("COUNTER-12")]
    public void The_demos_surveys_are_what_the_script_writes(string computer)
    {
        var world = Counter(computer);
        var machine = MadeUpMachine.From(world, _folder, computer);
        if (computer == "COUNTER-11")
            machine.SignOut(Demo.Sid("rowan"));
        var brief = new BriefLoader(_ => throw new InvalidOperationException()).Load(Path.Combine(Root(), "demo/counters.brief.yaml"), null);
        Shell.Run(machine, SurveyScript.Write(KnownGuards.With(brief)), @"-To C:\").Errors.ShouldBeEmpty();
        // When it was made, and how long it took, is not the same every time.
        string text = Regex.Replace(System.IO.File.ReadAllText(File(machine)), "\"made\":\"[^\"]*\",\"seconds\":[0-9]+",
            $"\"made\":\"2026-10-05T07:{computer[^2..]}:00Z\",\"seconds\":21", RegexOptions.None, TimeSpan.FromSeconds(5));
        string kept = Path.Combine(Root(), $"demo/survey-{computer}.json.gz");
        if (Environment.GetEnvironmentVariable("MOORFIELD_WRITE_SURVEYS") == "1")
        {
            using var packed = new GZipStream(System.IO.File.Create(kept), CompressionLevel.SmallestSize);
            packed.Write(Encoding.ASCII.GetBytes(text));
        }
        using var file = new GZipStream(System.IO.File.OpenRead(kept), CompressionMode.Decompress);
        using var reader = new StreamReader(file);
        (reader.ReadToEnd() == text).ShouldBeTrue("The demo's surveys are not what the script writes now: run this test with MOORFIELD_WRITE_SURVEYS=1.");
    }

    /// <summary>A counter like counter-07, but with a life of its own.</summary>
    private static World Counter(string computer)
    {
        var world = World.Load() with { Computer = computer, SystemFiles = 12, MachineGuid = $"7d0c5a52-31e4-4c7a-9c1f-0d6a4e5b22{computer[^2..]}",
            Site = computer == "COUNTER-11" ? "Island" : "Harbour" };
        return computer switch
        {
            "COUNTER-11" => world with { Release = "23H2", Build = "22631", Revision = 4317 },
            // Where somebody tidied up by hand, and forgot half.
            "COUNTER-12" => world with
            {
                Packages = [.. world.Packages.Where(p => p.By is not "pennywhistle" && p.Name
                    is not "Larkfield.Anagrams" and not "Larkfield.Crossword")
                    .Select(p => p.Name == "Northlight.Weather" ? p with { For = ["counter"], Provisioned = false } : p)],
                Leftovers = [],
                Chosen = [.. world.Chosen.Where(c => c.Package?.StartsWith("Pennywhistle", StringComparison.Ordinal) != true)],
            },
            _ => world,
        };
    }

    internal static string Root([System.Runtime.CompilerServices.CallerFilePath] string here = "") =>
        Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../.."));
}
