using System.Runtime.CompilerServices;
using System.Text.RegularExpressions;
using Microsoft.CodeAnalysis;
using Microsoft.CodeAnalysis.CSharp;
using Microsoft.CodeAnalysis.CSharp.Syntax;

namespace Moorfield.Core.Tests;

/// <summary>
/// The texts of the program, held against the words that ../shared/docs/style.md rules out. MOORFIELD_WRITE_TEXTS=FILE writes all of them to a
/// file, for somebody who reads them as a stranger would ('./run texts').
/// </summary>
public sealed class PlainEnglishTests
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(10);

    private static readonly string[] Avoided =
    [
        @"\btold\b", @"\bbeside\b", @"\bbesides\b", @"\bbehind\b", @"all the same\b", @"\bat all\b", @"\bas told\b", @"\bof its own\b",
        @"\bin the way\b", @"\bnone such\b", @"\bis none\b", @"\b(?<!There )(?<!there )is no [a-z]+\b(?! longer)", @"\b[Ll]eave\b[^.]*\bout\b",
        @"\bfresh look\b", @"\bTo be [a-z]+(ed|ught)\b", @"\bIn all\b", @"\banew\b", @"\bcarri(es|ed) on\b", @"\bstill stands?\b", @"\ball else\b",
        @"\bweigh(s|ed)?\b", @"\bstands? (first|last|there)\b", @"\bmade of\b",
    ];

    // Where a word is the right one: the text, or a part of it.
    private static readonly string[] Right = ["is no longer"];

    private static string Sources([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../../src"));

    /// <summary>File and text of each literal with at least two words; literals that are added up are one text, and {} is what is put in.</summary>
    private static IEnumerable<(string File, string Text)> Texts()
    {
        foreach (string file in Directory.EnumerateFiles(Sources(), "*.cs", SearchOption.AllDirectories).Order(StringComparer.Ordinal)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/bin/", StringComparison.Ordinal)))
        {
            foreach (var node in CSharpSyntaxTree.ParseText(File.ReadAllText(file)).GetRoot().DescendantNodes().OfType<ExpressionSyntax>())
            {
                if (TextOf(node) is { } text && TextOf(node.Parent) is null && Regex.IsMatch(text, @"[A-Za-z]{2,} [a-z]", RegexOptions.None, Limit))
                    yield return (Path.GetRelativePath(Sources(), file), Regex.Replace(text, @"\s+", " ", RegexOptions.None, Limit));
            }
        }
    }

    private static string? TextOf(SyntaxNode? node) => node switch
    {
        LiteralExpressionSyntax { Token.Value: string value } => value,
        InterpolatedStringExpressionSyntax mixed => string.Concat(mixed.Contents.Select(c =>
            c is InterpolatedStringTextSyntax part ? part.TextToken.ValueText : "{}")),
        ParenthesizedExpressionSyntax inner => TextOf(inner.Expression),
        BinaryExpressionSyntax { RawKind: (int)SyntaxKind.AddExpression } sum when (TextOf(sum.Left), TextOf(sum.Right)) is ({ } left, { } right) =>
            left + right,
        _ => null,
    };

    [Fact]
    public void No_text_has_a_word_that_the_style_avoids()
    {
        var texts = Texts().ToList();
        texts.Count.ShouldBeGreaterThan(1500);
        texts.ShouldContain(t => t.Text.StartsWith("Standard input is not a terminal, so nobody can be asked. Add --yes", StringComparison.Ordinal));
        if (Environment.GetEnvironmentVariable("MOORFIELD_WRITE_TEXTS") is { Length: > 0 } path)
            File.WriteAllLines(path, texts.Select(t => $"{t.File}: {t.Text}"));
        texts.SelectMany(t => Avoided.SelectMany(w => Regex.Matches(t.Text, w, RegexOptions.ExplicitCapture, Limit))
                .Where(m => !Right.Any(r => t.Text.AsSpan(m.Index).StartsWith(r))).Select(m => $"{t.File}: '{m.Value}' in: {t.Text}"))
            .ShouldBeEmpty();
    }

    [Fact]
    public void No_comment_has_a_word_that_the_style_avoids()
    {
        string[] avoided =
        [
            @"\bbesides?\b", @"\bnone such\b", @"(?<![Tt]here )\bis none\b", @"\ball the same\b", @"\ball else\b", @"\banew\b", @"\bof its own\b",
            @"\b(is|are|was|were) told\b(?! to\b)", @"\bstands? (behind|before|below|in the way)\b", @"\bcut off\b",
            "(<summary>|<returns>|<param name=\"[A-Za-z]+\">)(What|Whether|Told)\\b",
        ];
        var comments = Directory.EnumerateFiles(Sources(), "*.cs", SearchOption.AllDirectories).Order(StringComparer.Ordinal)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/bin/", StringComparison.Ordinal))
            .SelectMany(f => File.ReadLines(f)
                .Where(l => l.Contains("// ", StringComparison.Ordinal))
                .Select(l => (File: f, Text: l[l.IndexOf("//", StringComparison.Ordinal)..])))
            .ToList();
        comments.Count.ShouldBeGreaterThan(3000);
        comments.SelectMany(c => avoided.SelectMany(w => Regex.Matches(c.Text, w, RegexOptions.ExplicitCapture, Limit))
            .Select(m => $"{Path.GetRelativePath(Sources(), c.File)}: '{m.Value}' in: {c.Text}")).ShouldBeEmpty();
    }
}
