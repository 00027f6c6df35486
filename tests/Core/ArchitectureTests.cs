using System.Text.RegularExpressions;
using System.Xml.Linq;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>Data runs one way through the house: nothing lower knows anything higher.</summary>
public sealed class ArchitectureTests
{
    [Theory]
    [InlineData("Proofs", "")]
    [InlineData("Core", "Proofs")]
    [InlineData("Ldap", "")]
    [InlineData("Scim", "")]
    [InlineData("Contracts", "")]
    [InlineData("Store", "Core")]
    [InlineData("Sources", "Core")]
    [InlineData("Targets", "Core Ldap Scim")]
    [InlineData("Cli", "Contracts Proofs")]
    [InlineData("Service", "Contracts Core Scim Sources Store Targets")]
    public void A_project_knows_only_what_stands_below_it(string project, string known)
    {
        var file = XDocument.Load(Repository.At("src", $"Oikonom.{project}", $"Oikonom.{project}.csproj"));
        var references = file.Descendants("ProjectReference")
            .Select(r => Path.GetFileNameWithoutExtension(r.Attribute("Include")!.Value)["Oikonom.".Length..])
            .Order(StringComparer.Ordinal);
        Assert.Equal(known, string.Join(' ', references));
    }

    [Theory]
    [InlineData(
        "Core",
        "System.IO.File|Directory.|HttpClient|DateTime.Now|DateTime.UtcNow|DateTimeOffset.Now|DateTimeOffset.UtcNow|Console."
    )]
    [InlineData("Service", "DateTime.Now|DateTime.UtcNow|DateTimeOffset.Now|DateTimeOffset.UtcNow")]
    [InlineData("Store", "DateTime.Now|DateTime.UtcNow|DateTimeOffset.Now|DateTimeOffset.UtcNow")]
    public void Time_and_the_world_come_from_outside(string project, string forbidden) => Assert.Empty(LinesWith(project, forbidden));

    /// <summary>Whoever writes a remark must not be able to say with it what happened: that stands in the verdict and beside it.</summary>
    [Theory]
    [InlineData("Core")]
    [InlineData("Service")]
    public void What_somebody_wrote_decides_nothing(string project) =>
        Assert.Empty(
            LinesWith(project, "Remark.StartsWith|Remark.EndsWith|Remark.Contains|Remark.IndexOf|Remark.LastIndexOf|Remark.Split")
        );

    private static IEnumerable<string> LinesWith(string project, string words) =>
        Directory
            .GetFiles(Repository.At("src", $"Oikonom.{project}"), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal))
            .SelectMany(f =>
                File.ReadAllLines(f)
                    .Where(line => words.Split('|').Any(word => line.Contains(word, StringComparison.Ordinal)))
                    .Select(line => $"{Path.GetFileName(f)}: {line.Trim()}")
            );

    /// <summary>
    /// The rooms of a project stand in this order, and each knows only rooms before it: there is no circle, and what a room
    /// rests on is read off its place.
    /// </summary>
    [Theory]
    [InlineData("Core", "Time Ledger Expressions People Rulebook Intake Planning Approval Fulfilment")]
    [InlineData(
        "Service",
        "Common Editions Access Records Desk Connectors Notices Intake Scim Approval Planning Fulfilment Rulebook People Ledger Live "
            + "Overview Hosting"
    )]
    public void A_room_knows_only_rooms_before_it(string project, string order)
    {
        var folder = Repository.At("src", $"Oikonom.{project}");
        var rooms = order.Split(' ');
        var there = Directory.GetDirectories(folder).Select(d => Path.GetFileName(d)!).Where(d => d is not ("bin" or "obj"));
        Assert.Equal(rooms.Order(StringComparer.Ordinal), there.Order(StringComparer.Ordinal));

        var broken = rooms.SelectMany(
            (room, place) =>
                Directory
                    .GetFiles(Path.Combine(folder, room), "*.cs", SearchOption.AllDirectories)
                    .Select(f => (Name: $"{room}/{Path.GetFileName(f)}", Text: File.ReadAllText(f)))
                    .SelectMany(f =>
                        rooms.Skip(place + 1).Where(later => Knows(f.Text, project, later)).Select(later => $"{f.Name} knows {later}")
                    )
        );
        Assert.Empty(broken);
    }

    [Theory]
    [InlineData("using Oikonom.Core.Planning;", true)]
    [InlineData("    Planning.Plan Made() => new();", true)]
    [InlineData("    var plan = Core.Planning.Plan.None;", true)]
    [InlineData("    // Planning.Plan is made later.", false)]
    [InlineData("    x.Planning.Count()", false)]
    public void A_room_is_known_by_a_using_or_by_its_name(string line, bool known) =>
        Assert.Equal(known, Knows($"namespace Oikonom.Core.People;\n{line}\n", "Core", "Planning"));

    private static bool Knows(string text, string project, string room) =>
        text.Contains($"using Oikonom.{project}.{room};", StringComparison.Ordinal)
        || Regex.IsMatch(text, $@"^(?!\s*//)(?!using ).*((?<![\w.]){room}|\b{project}\.{room})\.[A-Z]\w+", RegexOptions.Multiline);
}
