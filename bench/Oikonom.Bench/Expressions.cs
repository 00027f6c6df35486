using System.Diagnostics;
using Oikonom.Core.Expressions;
using Oikonom.Core.People;

namespace Oikonom.Bench;

/// <summary>One evaluation of typical conditions: time and memory.</summary>
internal static class Expressions
{
    private static readonly string[] Conditions =
    [
        "department == \"Dive Team\" && kind in [\"employee\", \"researcher\"]",
        "site == \"harbour\" && (department == \"Research\" || department == \"Dive Team\") && end == null",
        "title.startsWith(\"Head\") || kind != \"volunteer\"",
    ];

    public static void Run()
    {
        var schema = new NameSchema(BuiltIn.Attributes);
        var scope = new Scope(schema);
        new Facts([
            new("department", Value.Of("Dive Team")),
            new("kind", Value.Of("researcher")),
            new("site", Value.Of("harbour")),
            new("title", Value.Of("Diver")),
        ]).Fill(scope, schema);
        Console.WriteLine("Expressions");
        foreach (var text in Conditions)
        {
            var expression = Expression.Compile(text, schema);
            const int rounds = 2_000_000;
            for (var i = 0; i < rounds / 4; i++)
                expression.Holds(scope);
            var memory = GC.GetAllocatedBytesForCurrentThread();
            var watch = Stopwatch.StartNew();
            var held = 0;
            for (var i = 0; i < rounds; i++)
                held += expression.Holds(scope) ? 1 : 0;
            watch.Stop();
            memory = GC.GetAllocatedBytesForCurrentThread() - memory;
            Console.WriteLine(
                $"  {watch.Elapsed.TotalMicroseconds / rounds, 8:0.000} µs   {(double)memory / rounds, 6:0.0} bytes   {text}   "
                    + $"({(held > 0 ? "holds" : "does not hold")})"
            );
        }
        Console.WriteLine("  wanted: 0.5 µs or less, and no allocation");
    }
}
