using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;
using Microsoft.CodeAnalysis.CSharp;
using Microsoft.CodeAnalysis.CSharp.Syntax;

namespace Moorfield.Mutants;

/// <summary>
/// Tries whether tests notice changes to the code: all mutants of the given files are compiled into one build of a copy of the repository, each
/// behind a switch, and a seeded sample of each folder's is switched on, one at a time, while the nearest test classes run of those that reach it.
/// </summary>
internal static class Program
{
    private const int Nearest = 8, Always = 2;
    private static readonly ParallelOptions Lanes = new() { MaxDegreeOfParallelism = Environment.ProcessorCount };
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan Slow = TimeSpan.FromSeconds(150);

    // Past the first ones, what the tests of one mutant may take together without it.
    private static readonly TimeSpan Budget = TimeSpan.FromSeconds(100);

    /// <summary>Arguments: COPY SAMPLE SEED FILE… (files below the copy of the repository, which is changed).</summary>
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
        string[] projects = files[0].Contains("/Moorfield.Formats/", StringComparison.Ordinal) ? ["Formats", "Core"] : ["Core"];
        var mutants = Build(copy, projects, files);
        Console.WriteLine($"{mutants.Count} mutants in {files.Length} files");
        var classes = projects.SelectMany(p => Classes(copy, p)).ToList();
        Parallel.ForEach(classes, Lanes, one => Measure(copy, one));
        var random = new Random(seed);
        int caught = 0, tried = 0;
        foreach (var room in mutants.GroupBy(m => Path.GetDirectoryName(m.File)!))
        {
            var chosen = room.OrderBy(_ => random.Next()).Take(sample).OrderBy(m => m.File, StringComparer.Ordinal).ThenBy(m => m.Line).ToList();
            int found = 0;
            Parallel.ForEach(chosen, Lanes, mutant =>
            {
                string[] types = Types(copy, mutant.File);
                var near = classes.Where(c => c.Reached.Contains(mutant.Number)).OrderByDescending(c => c.Nearness(types)).Take(Nearest).ToList();
                var taken = TimeSpan.Zero;
                near = [.. near.TakeWhile((c, i) => (taken += c.Time) < Budget || i < Always)];
                if (near.Exists(c => !Passes(copy, c, mutant.Number, null, (c.Time * 4) + TimeSpan.FromSeconds(15))))
                    Interlocked.Increment(ref found);
                else
                    Console.WriteLine($"{(near.Count > 0 ? "survives" : "not reached")}: {mutant.File}:{mutant.Line}: {mutant.Before}  ->  "
                        + mutant.After);
            });
            Console.WriteLine($"{room.Key}: {found} of {chosen.Count} caught ({100 * found / chosen.Count} %), seed {seed}");
            (caught, tried) = (caught + found, tried + chosen.Count);
        }
        return caught * 5 >= tried * 4 ? 0 : 1;
    }

    private static List<Mutant> Build(string copy, string[] projects, string[] files)
    {
        File.WriteAllText(Path.Combine(copy, "src", "Moorfield.Formats", "Switch.cs"), """
            namespace Moorfield.Mutants;

            public static class Switch
            {
                private static readonly int Active = int.Parse(System.Environment.GetEnvironmentVariable("MOORFIELD_MUTANT") ?? "0");
                private static readonly string? Reached = System.Environment.GetEnvironmentVariable("MOORFIELD_REACHED");
                private static readonly System.Collections.Concurrent.ConcurrentDictionary<int, bool> Seen = new();

                static Switch()
                {
                    if (Reached is not null)
                        System.AppDomain.CurrentDomain.ProcessExit += (_, _) => System.IO.File.WriteAllLines(Reached,
                            System.Linq.Enumerable.Select(Seen.Keys, k => k.ToString()));
                }

                public static bool Is(int number)
                {
                    if (Reached is not null)
                        Seen.TryAdd(number, true);
                    return number == Active;
                }
            }
            """);
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

    private static List<TestClass> Classes(string copy, string project) =>
        [.. Directory.GetFiles(Path.Combine(copy, "tests", $"Moorfield.{project}.Tests"), "*.cs")
            .Select(f => (Name: Path.GetFileNameWithoutExtension(f), Text: File.ReadAllText(f)))
            .Where(f => Regex.IsMatch(f.Text, $@"\bpublic (sealed )?class {f.Name}\b", RegexOptions.ExplicitCapture, Limit)
                && f.Name is not ("ArchitectureTests" or "HousePictureTests"))
            .Select(f => new TestClass(project, f.Name, f.Text + Base(copy, project, f.Text)))];

    /// <summary>The text of the class that a test class takes its tests from; empty when it has them all itself.</summary>
    private static string Base(string copy, string project, string text) =>
        Regex.Match(text, @"\bclass \w+(\(\))? : (?<base>\w+)", RegexOptions.ExplicitCapture, Limit) is { Success: true } match
        && Path.Combine(copy, "tests", $"Moorfield.{project}.Tests", match.Groups["base"].Value + ".cs") is var file && File.Exists(file)
            ? File.ReadAllText(file) : "";

    /// <summary>Runs a class without any mutant, to see which it reaches and how long it takes. One that fails is left out.</summary>
    private static void Measure(string copy, TestClass one)
    {
        string reached = Path.Combine(copy, $"reached-{one.Name}.txt");
        File.Delete(reached);
        var watch = Stopwatch.StartNew();
        if (!Passes(copy, one, 0, reached, Slow))
        {
            Console.WriteLine($"left out: {one.Name} fails without any mutant, or takes longer than {Slow.TotalSeconds:0} s");
            return;
        }
        one.Time = watch.Elapsed;
        if (File.Exists(reached))
            one.Reached = [.. File.ReadAllText(reached).Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Select(n => int.Parse(n, CultureInfo.InvariantCulture))];
    }

    private static bool Passes(string copy, TestClass one, int mutant, string? reached, TimeSpan limit)
    {
        var environment = new Dictionary<string, string> { ["MOORFIELD_MUTANT"] = mutant.ToString(CultureInfo.InvariantCulture) };
        if (reached is not null)
            environment["MOORFIELD_REACHED"] = reached;
        string program = Path.Combine(copy, "tests", $"Moorfield.{one.Project}.Tests", "bin", "Debug", "net10.0", $"Moorfield.{one.Project}.Tests");
        return Run(copy, program, limit, environment, ["-noColor", "-noLogo", "-stopOnFail", "-class", $"*.{one.Name}"]).Code == 0;
    }

    /// <param name="name">Of its file as well.</param>
    private sealed class TestClass(string project, string name, string text)
    {
        internal string Project => project;

        internal string Name => name;

        internal TimeSpan Time { get; set; }

        internal HashSet<int> Reached { get; set; } = [];

        /// <summary>
        /// How well its tests fit a file: how often it names the file's types, in relation to the time that it takes. A class named like one of
        /// the types comes first.
        /// </summary>
        internal double Nearness(string[] types) =>
            ((types.Any(t => name.StartsWith(t, StringComparison.Ordinal)) ? 1000
                : types.Any(t => t.StartsWith(name.Replace("Tests", "", StringComparison.Ordinal), StringComparison.Ordinal)) ? 500 : 1)
                + 5 * Mentions(types)) / (1 + Time.TotalSeconds);

        internal int Mentions(string[] types) => types.Sum(t => Regex.Matches(text, $@"\b{Regex.Escape(t)}\b", RegexOptions.None, Limit).Count);
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
