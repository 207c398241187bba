using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;
using Microsoft.CodeAnalysis.CSharp;
using Microsoft.CodeAnalysis.CSharp.Syntax;

namespace Moorfield.Mutants;

/// <summary>
/// Tries whether tests notice changes to the code: all mutants of the given files are compiled into one build of a copy of the repository, each
/// behind a switch, and a seeded sample of them is switched on, one at a time, while the nearest test classes run.
/// </summary>
internal static class Program
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(10);

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
        string project = files[0].Contains("/Moorfield.Formats/", StringComparison.Ordinal) ? "Formats" : "Core";
        var mutants = Build(copy, project, files);
        var classes = NearestClasses(copy, project, files);
        Console.WriteLine($"{mutants.Count} mutants in {files.Length} files; tests: {string.Join(' ', classes)}");
        string reached = Path.Combine(copy, "reached.txt");
        var watch = Stopwatch.StartNew();
        if (!Passes(copy, project, classes, 0, reached, TimeSpan.FromMinutes(15)))
        {
            Console.WriteLine("The tests fail without any mutant.");
            return 2;
        }
        var limit = watch.Elapsed * 3 + TimeSpan.FromSeconds(10);
        var seen = File.Exists(reached) ? File.ReadAllText(reached).Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .Select(n => int.Parse(n, CultureInfo.InvariantCulture)).ToHashSet() : [];
        var random = new Random(seed);
        var chosen = mutants.OrderBy(_ => random.Next()).Take(sample).OrderBy(m => m.File, StringComparer.Ordinal).ThenBy(m => m.Line).ToList();
        int caught = 0;
        foreach (var mutant in chosen)
        {
            bool isReached = seen.Contains(mutant.Number);
            if (isReached && !Passes(copy, project, classes, mutant.Number, null, limit))
                caught++;
            else
                Console.WriteLine($"{(isReached ? "survives" : "not reached")}: {mutant.File}:{mutant.Line}: {mutant.Before}  ->  {mutant.After}");
        }
        Console.WriteLine($"{caught} of {chosen.Count} caught ({100 * caught / Math.Max(1, chosen.Count)} %), seed {seed}");
        return caught * 5 >= chosen.Count * 4 ? 0 : 1;
    }

    private static List<Mutant> Build(string copy, string project, string[] files)
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
                        System.AppDomain.CurrentDomain.ProcessExit += (_, _) => System.IO.File.WriteAllLines(Reached, System.Linq.Enumerable.Select(Seen.Keys, k => k.ToString()));
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
        for (int tries = 0; tries < 12; tries++)
        {
            var mutants = new List<Mutant>();
            foreach (string file in files)
            {
                var mutator = new Mutator(file, mutants.Count + 1, dropped[file]);
                var root = mutator.Visit(CSharpSyntaxTree.ParseText(originals[file]).GetRoot())!;
                File.WriteAllText(Path.Combine(copy, file), root.ToFullString());
                mutants.AddRange(mutator.Mutants);
            }
            var (code, output) = Run(copy, "dotnet", TimeSpan.FromMinutes(15), [], "build", $"tests/Moorfield.{project}.Tests", "-v", "quiet", "--tl:off",
                "-p:RunAnalyzers=false", "-p:TreatWarningsAsErrors=false", "-p:EnforceCodeStyleInBuild=false", "-clp:NoSummary");
            if (code == 0)
                return mutants;
            int before = dropped.Values.Sum(d => d.Count);
            foreach (Match error in Regex.Matches(output, @"(?<file>src/[^(]+)\((?<line>\d+),\d+\): error", RegexOptions.ExplicitCapture, Limit))
            {
                string file = error.Groups["file"].Value[error.Groups["file"].Value.LastIndexOf("src/", StringComparison.Ordinal)..];
                if (dropped.TryGetValue(file, out var lines))
                    lines.Add(int.Parse(error.Groups["line"].Value, CultureInfo.InvariantCulture));
            }
            if (dropped.Values.Sum(d => d.Count) == before)
                throw new InvalidOperationException("The mutants do not compile: " + output[..Math.Min(2000, output.Length)]);
        }
        throw new InvalidOperationException("The mutants do not compile, however many are dropped.");
    }

    /// <summary>The classes that name a type of the files most often, those with a like name first.</summary>
    private static List<string> NearestClasses(string copy, string project, string[] files)
    {
        var types = files.SelectMany(f => CSharpSyntaxTree.ParseText(File.ReadAllText(Path.Combine(copy, f))).GetRoot().DescendantNodes()
            .OfType<BaseTypeDeclarationSyntax>().Select(t => t.Identifier.Text)).Distinct().ToList();
        string pattern = $@"\b(?:{string.Join('|', types.Select(Regex.Escape))})\b";
        return [.. Directory.GetFiles(Path.Combine(copy, "tests", $"Moorfield.{project}.Tests"), "*Tests.cs")
            .Concat(Directory.GetFiles(Path.Combine(copy, "tests", $"Moorfield.{project}.Tests"), "*Conformance.cs"))
            .Select(f => (Name: Path.GetFileNameWithoutExtension(f), Text: File.ReadAllText(f)))
            .Where(f => f.Text.Contains($"public sealed class {f.Name}", StringComparison.Ordinal) && f.Name is not ("ArchitectureTests" or "HousePictureTests"))
            .Select(f => (f.Name, Count: Regex.Matches(f.Text, pattern, RegexOptions.None, Limit).Count
                + (types.Exists(t => f.Name.StartsWith(t, StringComparison.Ordinal)) ? 100 : 0)))
            .Where(f => f.Count > 0 || f.Name == "VolumeConformance" && project == "Core").OrderByDescending(f => f.Count).Take(6).Select(f => f.Name)];
    }

    private static bool Passes(string copy, string project, List<string> classes, int mutant, string? reached, TimeSpan limit)
    {
        var environment = new Dictionary<string, string> { ["MOORFIELD_MUTANT"] = mutant.ToString(CultureInfo.InvariantCulture) };
        if (reached is not null)
            environment["MOORFIELD_REACHED"] = reached;
        string program = Path.Combine(copy, "tests", $"Moorfield.{project}.Tests", "bin", "Debug", "net10.0", $"Moorfield.{project}.Tests");
        return Run(copy, program, limit, environment,
            ["-noColor", "-noLogo", "-stopOnFail", .. classes.SelectMany(c => new[] { "-class", $"*.{c}" })]).Code == 0;
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
