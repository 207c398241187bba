using System.Globalization;
using Microsoft.CodeAnalysis;
using Microsoft.CodeAnalysis.CSharp;
using Microsoft.CodeAnalysis.CSharp.Syntax;

namespace Moorfield.Mutants;

/// <summary>A change to one place of the code, which is made when its number is the active one.</summary>
/// <param name="Line">From 1.</param>
internal sealed record Mutant(int Number, string File, int Line, string Before, string After)
{
    public override string ToString() => $"{File}:{Line}: {Before}  ->  {After}";

    /// <summary>True if a line of an earlier run's output names this mutant: same file, same text, same change. Line numbers may differ.</summary>
    internal bool IsNamedIn(string output) =>
        output.Contains($": {File}:", StringComparison.Ordinal) && output.EndsWith($": {Before}  ->  {After}", StringComparison.Ordinal);

    /// <summary>In a line, for <see cref="Parse"/>.</summary>
    internal string Stored() => string.Join('\t', Number, File, Line, Before, After);

    internal static Mutant Parse(string stored)
    {
        string[] parts = stored.Split('\t');
        var (number, line) = (int.Parse(parts[0], CultureInfo.InvariantCulture), int.Parse(parts[2], CultureInfo.InvariantCulture));
        return new(number, parts[1], line, parts[3], parts[4]);
    }
}

/// <summary>Puts mutants of a file behind switches. Lines stay where they are.</summary>
/// <param name="first">Number of the first mutant.</param>
/// <param name="dropped">Lines on which none may be, because they did not compile.</param>
internal sealed class Mutator(string file, int first, IReadOnlySet<int> dropped) : CSharpSyntaxRewriter
{
    private const string Switch = "global::Moorfield.Mutants.Switch";
    private readonly List<Mutant> _mutants = [];

    internal IReadOnlyList<Mutant> Mutants => _mutants;

    private static readonly Dictionary<SyntaxKind, (SyntaxKind Kind, string Text)[]> Operators = new()
    {
        [SyntaxKind.LessThanExpression] = [(SyntaxKind.LessThanOrEqualExpression, "<="), (SyntaxKind.GreaterThanExpression, ">")],
        [SyntaxKind.LessThanOrEqualExpression] = [(SyntaxKind.LessThanExpression, "<")],
        [SyntaxKind.GreaterThanExpression] = [(SyntaxKind.GreaterThanOrEqualExpression, ">="), (SyntaxKind.LessThanExpression, "<")],
        [SyntaxKind.GreaterThanOrEqualExpression] = [(SyntaxKind.GreaterThanExpression, ">")],
        [SyntaxKind.EqualsExpression] = [(SyntaxKind.NotEqualsExpression, "!=")],
        [SyntaxKind.NotEqualsExpression] = [(SyntaxKind.EqualsExpression, "==")],
        [SyntaxKind.LogicalAndExpression] = [(SyntaxKind.LogicalOrExpression, "||")],
        [SyntaxKind.LogicalOrExpression] = [(SyntaxKind.LogicalAndExpression, "&&")],
        [SyntaxKind.AddExpression] = [(SyntaxKind.SubtractExpression, "-")],
        [SyntaxKind.SubtractExpression] = [(SyntaxKind.AddExpression, "+")],
    };

    private static readonly Dictionary<string, string> Calls = new()
    {
        ["Any"] = "All", ["All"] = "Any", ["First"] = "Last", ["Last"] = "First", ["FirstOrDefault"] = "LastOrDefault", ["Max"] = "Min",
        ["Min"] = "Max", ["StartsWith"] = "EndsWith", ["EndsWith"] = "StartsWith", ["Concat"] = "Except", ["Union"] = "Intersect",
    };

    /// <summary>Whether an expression can stand twice: nothing in it declares a variable that is used elsewhere, and it is no constant.</summary>
    private static bool CanBeDoubled(SyntaxNode node) =>
        !node.DescendantNodesAndSelf(n => n is not LambdaExpressionSyntax).Any(n => n is SingleVariableDesignationSyntax or DeclarationExpressionSyntax)
        && !node.Ancestors().Any(a => a is AttributeSyntax or CaseSwitchLabelSyntax or ConstantPatternSyntax or RelationalPatternSyntax
            or ParameterSyntax or EnumMemberDeclarationSyntax
            || (a is FieldDeclarationSyntax f && f.Modifiers.Any(SyntaxKind.ConstKeyword))
            || (a is LocalDeclarationStatementSyntax l && l.IsConst));

    private bool May(SyntaxNode node, out int line)
    {
        line = node.SyntaxTree.GetLineSpan(node.Span).StartLinePosition.Line + 1;
        return !dropped.Contains(line) && node.SyntaxTree.GetLineSpan(node.Span).EndLinePosition.Line + 1 is var end
            && !Enumerable.Range(line, end - line + 1).Any(dropped.Contains) && CanBeDoubled(node);
    }

    private int Add(int line, SyntaxNode before, string after)
    {
        int number = first + _mutants.Count;
        _mutants.Add(new Mutant(number, file, line, Short(before.ToString()), Short(after)));
        return number;
    }

    private static string Short(string text) => string.Join(' ', text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)) is { Length: > 100 } t
        ? t[..100] + "…" : string.Join(' ', text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));

    private static ExpressionSyntax Switched(int number, ExpressionSyntax mutated, ExpressionSyntax original) =>
        SyntaxFactory.ParenthesizedExpression(SyntaxFactory.ConditionalExpression(
            SyntaxFactory.ParseExpression($"{Switch}.Is({number})"), SyntaxFactory.ParenthesizedExpression(mutated.WithoutTrivia()),
            SyntaxFactory.ParenthesizedExpression(original.WithoutTrivia())).NormalizeOuter()).WithTriviaFrom(original);

    public override SyntaxNode? VisitBinaryExpression(BinaryExpressionSyntax node)
    {
        var visited = (BinaryExpressionSyntax)base.VisitBinaryExpression(node)!;
        // Texts are joined by + as well.
        bool isText = node.DescendantNodes().Any(n => n is InterpolatedStringExpressionSyntax or LiteralExpressionSyntax
            { RawKind: (int)SyntaxKind.StringLiteralExpression });
        if (!Operators.TryGetValue(node.Kind(), out var others) || !May(node, out int line)
            || (isText && node.Kind() is SyntaxKind.AddExpression or SyntaxKind.SubtractExpression))
            return visited;
        ExpressionSyntax result = visited;
        foreach (var (kind, text) in others)
        {
            var mutated = SyntaxFactory.BinaryExpression(kind, visited.Left, visited.Right);
            result = Switched(Add(line, node, $"{node.Left} {text} {node.Right}"), mutated.NormalizeOuter(), result);
        }
        return result;
    }

    public override SyntaxNode? VisitIfStatement(IfStatementSyntax node)
    {
        var visited = (IfStatementSyntax)base.VisitIfStatement(node)!;
        if (!May(node.Condition, out int line) || node.Condition is BinaryExpressionSyntax)
            return visited;
        int number = Add(line, node.Condition, $"not ({node.Condition})");
        return visited.WithCondition(SyntaxFactory.ParseExpression($"{Switch}.Is({number}) ^ ({visited.Condition})"));
    }

    public override SyntaxNode? VisitConditionalExpression(ConditionalExpressionSyntax node)
    {
        var visited = (ConditionalExpressionSyntax)base.VisitConditionalExpression(node)!;
        if (!May(node.Condition, out int line) || node.Condition is BinaryExpressionSyntax)
            return visited;
        int number = Add(line, node.Condition, $"not ({node.Condition})");
        return visited.WithCondition(SyntaxFactory.ParenthesizedExpression(
            SyntaxFactory.ParseExpression($"{Switch}.Is({number}) ^ ({visited.Condition.WithoutTrivia()})")).WithTriviaFrom(visited.Condition));
    }

    public override SyntaxNode? VisitLiteralExpression(LiteralExpressionSyntax node)
    {
        if (node.Kind() is not (SyntaxKind.TrueLiteralExpression or SyntaxKind.FalseLiteralExpression) || !May(node, out int line))
            return base.VisitLiteralExpression(node);
        bool now = node.IsKind(SyntaxKind.TrueLiteralExpression);
        return SyntaxFactory.ParseExpression($"({Switch}.Is({Add(line, node, now ? "false" : "true")}) ^ {(now ? "true" : "false")})")
            .WithTriviaFrom(node);
    }

    public override SyntaxNode? VisitInvocationExpression(InvocationExpressionSyntax node)
    {
        var visited = (InvocationExpressionSyntax)base.VisitInvocationExpression(node)!;
        if (visited.Expression is not MemberAccessExpressionSyntax member || !Calls.TryGetValue(member.Name.Identifier.Text, out string? other)
            || (other is "All" && node.ArgumentList.Arguments.Count == 0)
            || node.Parent is ConditionalAccessExpressionSyntax || !May(node, out int line))
            return visited;
        var mutated = visited.WithExpression(member.WithName(SyntaxFactory.IdentifierName(other)));
        return Switched(Add(line, node, node.ToString().Replace("." + member.Name.Identifier.Text + "(", $".{other}(", StringComparison.Ordinal)),
            mutated, visited);
    }

    public override SyntaxNode? VisitExpressionStatement(ExpressionStatementSyntax node)
    {
        var visited = (ExpressionStatementSyntax)base.VisitExpressionStatement(node)!;
        bool isCall = node.Expression is InvocationExpressionSyntax or AwaitExpressionSyntax or AssignmentExpressionSyntax
            { Left: MemberAccessExpressionSyntax or ElementAccessExpressionSyntax };
        if (!isCall || !May(node, out int line) || node.DescendantNodes().OfType<ArgumentSyntax>().Any(a => !a.RefKindKeyword.IsKind(SyntaxKind.None)))
            return visited;
        int number = Add(line, node, "(nothing)");
        // In a block, so that an else behind it stays that of the if before it.
        return SyntaxFactory.Block(SyntaxFactory.IfStatement(SyntaxFactory.ParseExpression($"!{Switch}.Is({number})"), visited.WithoutLeadingTrivia())
            .NormalizeOuter()).NormalizeOuter().WithLeadingTrivia(visited.GetLeadingTrivia());
    }
}

internal static class SyntaxSpacing
{
    /// <summary>Spaces around the tokens of a node itself; what is inside of it keeps its lines.</summary>
    internal static T NormalizeOuter<T>(this T node) where T : SyntaxNode => node.ReplaceTokens(node.ChildTokens(),
        (_, token) => token.WithLeadingTrivia(SyntaxFactory.Space).WithTrailingTrivia(SyntaxFactory.Space));
}
