using System.Net;
using System.Text;
using System.Text.Json.Nodes;
using Oikonom.Scim;

namespace Oikonom.Standins.Applications;

/// <summary>The page of an application that shows its users and groups.</summary>
internal static class ApplicationPage
{
    public static string Of(ApplicationServer server)
    {
        var users = server.Data.All(ScimSchemas.Users);
        var html = new StringBuilder(
            $$"""
            <!doctype html><html lang="en"><head><meta charset="utf-8"><title>{{Plain(server.Kind.Title)}}</title>
            <meta http-equiv="refresh" content="5">
            <style>
            body{font:16px/1.5 system-ui,sans-serif;max-width:64rem;margin:2rem auto;padding:0 1rem;background:#eef3f1;color:#1f2d2b}
            h1,h2{font-family:Georgia,serif}table{border-collapse:collapse;width:100%;background:#fbfdfc}
            td,th{text-align:left;padding:.4rem .6rem;border-bottom:1px solid #d3dfda}.off{color:#7b8a85}
            </style></head><body><h1>{{Plain(server.Kind.Title)}}</h1>
            <p>{{users.Count}} users. {{Licences(server.Kind, users)}}</p>
            <table><tr><th>User</th><th>Name</th><th>Department</th><th>Roles</th><th>Licences</th><th>Groups</th><th>State</th></tr>
            """
        );
        foreach (var user in users)
        {
            var active = ScimReading.Truth(ScimValues.Get(user, "active")) != false;
            html.Append(active ? "<tr>" : "<tr class=\"off\">");
            foreach (
                var cell in new[]
                {
                    Text(user, "userName"),
                    Text(user, "displayName"),
                    Text(user, $"{ScimSchemas.Enterprise}:department"),
                    string.Join(", ", Values(user, "roles")),
                    string.Join(", ", Values(user, "entitlements")),
                    string.Join(", ", Texts(user, "groups.display")),
                    active ? "active" : "not active",
                }
            )
                html.Append($"<td>{Plain(cell)}</td>");
            html.Append("</tr>");
        }
        html.Append("</table><h2>Groups</h2><ul>");
        foreach (var group in server.Data.All(ScimSchemas.Groups))
            html.Append(
                $"<li>{Plain(ScimReading.Texts(group, "displayName", ScimSchemas.Groups).FirstOrDefault() ?? "")}: "
                    + $"{ScimValues.Each(ScimValues.Get(group, "members")).Count()} members</li>"
            );
        return html.Append("</ul></body></html>").ToString();
    }

    private static string Licences(ApplicationKind kind, IReadOnlyList<JsonObject> users) =>
        string.Join(
            "; ",
            kind.Licences.Select(l => $"{Plain(l.Key)}: {users.Count(u => Values(u, "entitlements").Contains(l.Key))} of {l.Value} in use")
        );

    private static string Plain(string text) => WebUtility.HtmlEncode(text);

    private static string Text(JsonObject user, string path) => Texts(user, path).FirstOrDefault() ?? "";

    private static IReadOnlyList<string> Values(JsonObject user, string path) => Texts(user, path);

    private static IReadOnlyList<string> Texts(JsonObject user, string path) => ScimReading.Texts(user, path, ScimSchemas.Users);
}
