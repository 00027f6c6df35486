using System.Net;
using Oikonom.Standins.Directory;

namespace Oikonom.Testing;

/// <summary>A server of a test that hears what is sent to it.</summary>
public static class Listener
{
    private const int Tries = 20;

    /// <summary>One that listens at a port of its own; a port that somebody else took meanwhile is left for another.</summary>
    public static HttpListener Start(out int port)
    {
        for (var i = 1; ; i++)
        {
            var listener = new HttpListener();
            port = DirectoryServer.FreePort();
            listener.Prefixes.Add($"http://127.0.0.1:{port}/");
            try
            {
                listener.Start();
                return listener;
            }
            catch (HttpListenerException) when (i < Tries)
            {
                listener.Close();
            }
        }
    }
}
