using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;
using System.Xml.Linq;
using Microsoft.CodeAnalysis.CSharp;
using Microsoft.CodeAnalysis.CSharp.Syntax;

namespace Moorfield.Mutants;

/// <summary>
/// Tries whether tests notice changes to the code: all mutants of the given files are compiled into one build of a copy of the repository, each
/// behind a switch, and a seeded sample of each room's is switched on, one at a time, while the nearest tests run of those that reach it.
/// </summary>
internal static class Program
{
    private static readonly ParallelOptions Lanes = new() { MaxDegreeOfParallelism = Environment.ProcessorCount };
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(10);

    // A test that takes longer than this is not run again for mutants.
    private static readonly TimeSpan Slow = TimeSpan.FromSeconds(20);

    // What the tests of one mutant may take together without it: the nearest ones, which run first, and all of them.
    private static readonly TimeSpan First = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan Budget = TimeSpan.FromSeconds(40);

    /// <summary>
    /// Arguments: COPY SAMPLE SEED FILE… (files below the copy of the repository, which is changed). With the output of an earlier run in
    /// $MOORFIELD_AGAIN, only those mutants are tried that survived in it, on whatever line they stand now.
    /// </summary>
    private static int Main(string[] arguments)
    {
        string copy = arguments[0];
        int sample = int.Parse(arguments[1], CultureInfo.InvariantCulture), seed = int.Parse(arguments[2], CultureInfo.InvariantCulture);
        string[] files = [.. arguments[3..].Where(f => f.StartsWith("src/", StringComparison.Ordinal) && f.EndsWith(".cs", StringComparison.Ordinal))];
        if (files.Length == 0)
        {
            Console.WriteLine("There is no file below src to change.");
            return 2;
        }
        string[]? again = Environment.GetEnvironmentVariable("MOORFIELD_AGAIN") is { Length: > 0 } output ? File.ReadAllLines(output) : null;
        string[] projects = files.Any(f => f.Contains("/Moorfield.Formats/", StringComparison.Ordinal)) ? ["Formats", "Core"] : ["Core"];
        // What was built and measured before serves as long as the copy is kept.
        string built = Path.Combine(copy, "mutants.txt");
        List<Mutant> mutants = File.Exists(built) ? [.. File.ReadLines(built).Select(Mutant.Parse)] : Build(copy, projects, files);
        mutants.RemoveAll(m => !files.Contains(m.File));
        Console.WriteLine($"{mutants.Count} mutants in {files.Length} files");
        List<Test> tests = [.. projects.SelectMany(p => Measure(copy, p))];
        if (!File.Exists(built))
            File.WriteAllLines(built, mutants.Select(m => m.Stored()));
        Console.WriteLine($"{tests.Count} tests, {tests.Count(t => t.Reached.Count > 0)} of them reach a mutant");
        var random = new Random(seed);
        int caught = 0, tried = 0;
        foreach (var room in mutants.GroupBy(m => string.Join('/', m.File.Split('/').SkipLast(1).Take(3))))
        {
            var chosen = (again is null ? room.OrderBy(_ => random.Next()).Take(sample)
                    : room.Where(m => again.Any(m.IsNamedIn)))
                .OrderBy(m => m.File, StringComparer.Ordinal).ThenBy(m => m.Line).ToList();
            int found = 0;
            Parallel.ForEach(chosen, Lanes, mutant =>
            {
                var near = Near(tests, mutant, Types(copy, mutant.File));
                // The nearest alone first: most are caught by those.
                var first = TimeSpan.Zero;
                var nearest = near.TakeWhile((t, i) => (first += t.Time) < First || i == 0).ToList();
                if (new[] { nearest, [.. near.Skip(nearest.Count)] }.Any(some =>
                    some.GroupBy(t => t.Project).Any(p => !Passes(copy, p.Key, [.. p], mutant.Number))))
                    Interlocked.Increment(ref found);
                else
                    Console.WriteLine($"{(near.Count > 0 ? "survives" : "not reached")}: {mutant}");
            });
            Console.WriteLine($"{room.Key}: {found} of {chosen.Count} caught ({100 * found / Math.Max(1, chosen.Count)} %), seed {seed}");
            (caught, tried) = (caught + found, tried + chosen.Count);
        }
        return caught * 5 >= tried * 4 ? 0 : 1;
    }

    /// <summary>
    /// The tests to run for a mutant, as far as the budget goes: those that reach it, nearest first, then the others of their classes (what a
    /// class prepares once is counted for the first of its tests only).
    /// </summary>
    private static List<Test> Near(List<Test> tests, Mutant mutant, string[] types)
    {
        var reaching = tests.Where(t => t.Reached.Contains(mutant.Number)).OrderByDescending(t => t.Nearness(types)).ToList();
        var classes = reaching.Select(t => t.Class).Distinct().Take(4).ToHashSet();
        var taken = TimeSpan.Zero;
        return [.. reaching.Concat(tests.Where(t => classes.Contains(t.Class) && !t.Reached.Contains(mutant.Number)).OrderBy(t => t.Time))
            .TakeWhile((t, i) => (taken += t.Time) < Budget || i == 0)];
    }

    private static List<Mutant> Build(string copy, string[] projects, string[] files)
    {
        var originals = files.ToDictionary(f => f, f => File.ReadAllText(Path.Combine(copy, f)));
        var dropped = files.ToDictionary(f => f, _ => new HashSet<int>());
        for (int tries = 0; tries < 40; tries++)
        {
            var mutants = new List<Mutant>();
            foreach (string file in files)
            {
                var mutator = new Mutator(file, mutants.Count + 1, dropped[file]);
                var root = mutator.Visit(CSharpSyntaxTree.ParseText(originals[file]).GetRoot())!;
                File.WriteAllText(Path.Combine(copy, file), root.ToFullString());
                mutants.AddRange(mutator.Mutants);
            }
            WriteSwitch(copy, projects, mutants.Count);
            var (code, output) = (0, "");
            foreach (string project in projects.TakeWhile(_ => code == 0))
                (code, output) = Run(copy, "dotnet", TimeSpan.FromMinutes(15), [], "build", $"tests/Moorfield.{project}.Tests", "-v", "quiet",
                    "--tl:off",
                    "-p:RunAnalyzers=false", "-p:TreatWarningsAsErrors=false", "-p:EnforceCodeStyleInBuild=false", "-clp:NoSummary");
            if (code == 0)
                return mutants;
            int before = dropped.Values.Sum(d => d.Count);
            var errors = new List<(string File, int Line)>();
            foreach (Match error in Regex.Matches(output, @"(?<file>src/[^(]+)\((?<line>\d+),(?<column>\d+)\): error", RegexOptions.ExplicitCapture,
                Limit))
            {
                string file = error.Groups["file"].Value[error.Groups["file"].Value.LastIndexOf("src/", StringComparison.Ordinal)..];
                if (!dropped.ContainsKey(file))
                    continue;
                int line = int.Parse(error.Groups["line"].Value, CultureInfo.InvariantCulture);
                errors.Add((file, line));
                // The mutant that stands before the error on its line, or the last one above it.
                string[] text = File.ReadAllLines(Path.Combine(copy, file));
                string above = string.Join('\n', text.Take(line - 1)) + "\n" + text[line - 1][..Math.Min(text[line - 1].Length,
                    int.Parse(error.Groups["column"].Value, CultureInfo.InvariantCulture))];
                if (Regex.Matches(above, @"Switch\.Is\((?<number>\d+)\)", RegexOptions.ExplicitCapture, Limit) is { Count: > 0 } found)
                    dropped[file].Add(mutants[int.Parse(found[^1].Groups["number"].Value, CultureInfo.InvariantCulture) - 1].Line);
            }
            // Some errors are said to be elsewhere than the mutant that makes them: then its whole member has none.
            if (dropped.Values.Sum(d => d.Count) == before)
                errors.ForEach(e => dropped[e.File].UnionWith(Member(originals[e.File], e.Line)));
            if (dropped.Values.Sum(d => d.Count) == before)
                throw new InvalidOperationException("The mutants do not compile: " + string.Join('\n', output.Split('\n').Where(l =>
                    l.Contains(": error", StringComparison.Ordinal)).Distinct().Take(5)));
        }
        throw new InvalidOperationException("The mutants do not compile, however many are dropped.");
    }

    /// <summary>Writes what the mutants ask whether they are on, and what tells it which test runs.</summary>
    private static void WriteSwitch(string copy, string[] projects, int count)
    {
        File.WriteAllText(Path.Combine(copy, "src", "Moorfield.Formats", "Switch.cs"), $$"""
            namespace Moorfield.Mutants;

            public static class Switch
            {
                private static readonly int Active = int.Parse(System.Environment.GetEnvironmentVariable("MOORFIELD_MUTANT") ?? "0");
                private static readonly string? Reached = System.Environment.GetEnvironmentVariable("MOORFIELD_REACHED");
                private static readonly System.Collections.Concurrent.ConcurrentDictionary<object, bool[]> Seen = new();

                public static System.Func<object?> Test { get; set; } = () => null;

                public static System.Func<object, string> Name { get; set; } = t => "";

                static Switch()
                {
                    if (Reached is not null)
                        System.AppDomain.CurrentDomain.ProcessExit += (_, _) => System.IO.File.WriteAllLines(Reached,
                            System.Linq.Enumerable.SelectMany(Seen, t => System.Linq.Enumerable.Select(System.Linq.Enumerable.Where(
                                System.Linq.Enumerable.Range(0, t.Value.Length), n => t.Value[n]), n => Name(t.Key) + " " + n)));
                }

                public static bool Is(int number)
                {
                    if (Reached is not null && Test() is { } test)
                        Seen.GetOrAdd(test, _ => new bool[{{count + 1}}])[number] = true;
                    return number == Active;
                }
            }
            """);
        foreach (string project in projects)
            File.WriteAllText(Path.Combine(copy, "tests", $"Moorfield.{project}.Tests", "SwitchHook.cs"), """
                internal static class SwitchHook
                {
                    [System.Runtime.CompilerServices.ModuleInitializer]
                    internal static void Set()
                    {
                        Moorfield.Mutants.Switch.Test = () => Xunit.TestContext.Current.TestMethod;
                        Moorfield.Mutants.Switch.Name = t => t is Xunit.Sdk.ITestMethod m ? m.TestClass.TestClassName + "." + m.MethodName : "";
                    }
                }
                """);
    }

    /// <summary>The lines of the member that a line is in.</summary>
    private static IEnumerable<int> Member(string text, int line)
    {
        var tree = CSharpSyntaxTree.ParseText(text);
        return tree.GetRoot().DescendantNodes().OfType<MemberDeclarationSyntax>().Where(m => m is not (BaseTypeDeclarationSyntax or
                BaseNamespaceDeclarationSyntax)).Select(m => tree.GetLineSpan(m.Span))
            .Select(s => (From: s.StartLinePosition.Line + 1, To: s.EndLinePosition.Line + 1)).Where(s => s.From <= line && line <= s.To)
            .SelectMany(s => Enumerable.Range(s.From, s.To - s.From + 1));
    }

    private static string[] Types(string copy, string file) =>
        [.. CSharpSyntaxTree.ParseText(File.ReadAllText(Path.Combine(copy, file))).GetRoot().DescendantNodes()
            .OfType<BaseTypeDeclarationSyntax>().Select(t => t.Identifier.Text).Distinct()];

    /// <summary>
    /// Runs all tests of a project once without any mutant, to see which they reach and how long they take. Those that fail, are skipped or
    /// slow are left out, and those that look at the code itself.
    /// </summary>
    private static List<Test> Measure(string copy, string project)
    {
        string reached = Path.Combine(copy, $"reached-{project}.txt"), report = Path.Combine(copy, $"report-{project}.xml");
        var environment = new Dictionary<string, string> { ["MOORFIELD_MUTANT"] = "0", ["MOORFIELD_REACHED"] = reached };
        if (!File.Exists(report))
            Run(copy, TestProgram(copy, project), TimeSpan.FromMinutes(40), environment, "-noColor", "-noLogo", "-result-xml", report);
        var texts = Directory.GetFiles(Path.Combine(copy, "tests", $"Moorfield.{project}.Tests"), "*.cs")
            .ToDictionary(f => Path.GetFileNameWithoutExtension(f), File.ReadAllText);
        var reachedBy = File.ReadLines(reached).Select(l => l.Split(' ')).ToLookup(l => l[0], l => int.Parse(l[1], CultureInfo.InvariantCulture));
        List<Test> tests = [];
        foreach (var rows in XDocument.Load(report).Descendants("test").GroupBy(t => (Class: (string)t.Attribute("type")!,
            Method: (string)t.Attribute("method")!)))
        {
            var time = TimeSpan.FromSeconds(rows.Sum(t => (double)t.Attribute("time")!));
            string name = $"{rows.Key.Class}.{rows.Key.Method}";
            if (rows.Any(t => (string?)t.Attribute("result") == "Fail"))
                Console.WriteLine($"left out: {name} fails without any mutant");
            else if (rows.All(t => (string?)t.Attribute("result") == "Pass") && time < Slow)
                tests.Add(new Test(project, rows.Key.Class, name, time, [.. reachedBy[name]],
                    texts.GetValueOrDefault(rows.Key.Class.Split('.')[^1], "")));
        }
        return [.. tests.Where(t => !t.Class.EndsWith(".ArchitectureTests", StringComparison.Ordinal)
            && !t.Class.EndsWith(".HousePictureTests", StringComparison.Ordinal))];
    }

    private static bool Passes(string copy, string project, List<Test> tests, int mutant) =>
        Run(copy, TestProgram(copy, project), (tests.Aggregate(TimeSpan.Zero, (sum, t) => sum + t.Time) * 6) + TimeSpan.FromSeconds(40),
            new() { ["MOORFIELD_MUTANT"] = mutant.ToString(CultureInfo.InvariantCulture) },
            ["-noColor", "-noLogo", "-stopOnFail", "-parallelMode", "none", .. tests.SelectMany(t => new[] { "-method", t.Name })]).Code == 0;

    private static string TestProgram(string copy, string project) =>
        Path.Combine(copy, "tests", $"Moorfield.{project}.Tests", "bin", "Debug", "net10.0", $"Moorfield.{project}.Tests");

    /// <param name="Name">Of its method, with namespace and class; all rows of a theory together.</param>
    /// <param name="Reached">The numbers of the mutants that it comes by.</param>
    /// <param name="Text">The source of its class.</param>
    private sealed record Test(string Project, string Class, string Name, TimeSpan Time, HashSet<int> Reached, string Text)
    {
        /// <summary>
        /// How well it fits a file: how often its class names the file's types, in relation to the time that it takes. A class named like one of
        /// the types comes first.
        /// </summary>
        internal double Nearness(string[] types)
        {
            string name = Class.Split('.')[^1];
            return ((types.Any(t => name.StartsWith(t, StringComparison.Ordinal)) ? 1000
                : types.Any(t => t.StartsWith(name.Replace("Tests", "", StringComparison.Ordinal), StringComparison.Ordinal)) ? 500 : 1)
                + (5 * types.Sum(t => Regex.Matches(Text, $@"\b{Regex.Escape(t)}\b", RegexOptions.None, Limit).Count))) / (0.1 + Time.TotalSeconds);
        }
    }

    private static (int Code, string Output) Run(
        string folder, string program, TimeSpan limit, Dictionary<string, string> environment, params string[] arguments)
    {
        var start = new ProcessStartInfo(program, arguments) 
        {
            WorkingDirectory = folder, RedirectStandardOutput = true, RedirectStandardError = true, UseShellExecute = false,
        };
        foreach (var (name, value) in environment)
            start.Environment[name] = value;
        using var process = Process.Start(start)!;
        var output = process.StandardOutput.ReadToEndAsync();
        var error = process.StandardError.ReadToEndAsync();
        if (!process.WaitForExit(limit))
        {
            process.Kill(entireProcessTree: true);
            process.WaitForExit();
            return (-1, "");
        }
        return (process.ExitCode, output.GetAwaiter().GetResult() + error.GetAwaiter().GetResult());
    }
}
