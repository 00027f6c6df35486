using System.Security.Cryptography;
using Microsoft.Extensions.FileProviders;

namespace Oikonom.Service.Hosting;

/// <summary>Serves the built console, with a strict policy, and its index for every page address.</summary>
public static class ConsoleFiles
{
    private const string Styles = "style-src 'self'";
    private const string Policy =
        $"default-src 'none'; script-src 'self'; {Styles}; img-src 'self' data:; font-src 'self'; connect-src 'self'; "
        + "base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

    public static void UseSecurityHeaders(this IApplicationBuilder app) =>
        app.Use(
            (context, next) =>
            {
                var headers = context.Response.Headers;
                headers.ContentSecurityPolicy = Policy;
                headers.XContentTypeOptions = "nosniff";
                headers["Referrer-Policy"] = "no-referrer";
                headers["Cross-Origin-Opener-Policy"] = "same-origin";
                if (context.Request.Path.StartsWithSegments("/api"))
                    headers.CacheControl = "no-store";
                return next(context);
            }
        );

    /// <summary>The files of the console; stands before sign-in, since the sign-in page is one of them.</summary>
    public static void UseConsoleFiles(this WebApplication app, string folder)
    {
        if (!IsThere(folder))
            return;
        var files = new PhysicalFileProvider(Path.GetFullPath(folder));
        app.UseStaticFiles(
            new StaticFileOptions
            {
                FileProvider = files,
                OnPrepareResponse = context =>
                    context.Context.Response.Headers.CacheControl = context.Context.Request.Path.StartsWithSegments("/assets")
                        ? "public, max-age=31536000, immutable"
                        : "no-cache",
            }
        );
    }

    private static bool IsThere(string folder) => folder.Length > 0 && Directory.Exists(folder);

    /// <summary>Every page address gets the index; the console finds the page.</summary>
    public static void MapConsolePages(this WebApplication app, string folder)
    {
        if (!IsThere(folder))
            return;
        var index = Path.Combine(Path.GetFullPath(folder), "index.html");
        app.MapFallback("{*path:nonfile}", (HttpContext context, CancellationToken cancel) => PageAsync(context, index, cancel))
            .AllowAnonymous()
            .ExcludeFromDescription();
    }

    /// <summary>
    /// The index, with a word of this answer alone (CSP Level 3, 7.1) for the styles that the editor of the rulebook
    /// makes while it runs; nothing else of the page may bring styles in.
    /// </summary>
    private static async Task<IResult> PageAsync(HttpContext context, string index, CancellationToken cancel)
    {
        var nonce = Convert.ToBase64String(RandomNumberGenerator.GetBytes(18));
        var headers = context.Response.Headers;
        headers.CacheControl = "no-store";
        headers.ContentSecurityPolicy = Policy.Replace(Styles, $"{Styles} 'nonce-{nonce}'", StringComparison.Ordinal);
        var page = await File.ReadAllTextAsync(index, cancel);
        return Results.Content(
            page.Replace("name=\"style-nonce\" content=\"\"", $"name=\"style-nonce\" content=\"{nonce}\"", StringComparison.Ordinal),
            "text/html; charset=utf-8"
        );
    }
}
