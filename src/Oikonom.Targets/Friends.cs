[assembly: System.Runtime.CompilerServices.InternalsVisibleTo("Oikonom.Ldap.Tests")]
