import com.sun.net.httpserver.HttpsConfigurator;
import com.sun.net.httpserver.HttpsServer;
import java.io.FileInputStream;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.net.URL;
import java.security.KeyStore;
import javax.net.ssl.HttpsURLConnection;
import javax.net.ssl.KeyManagerFactory;
import javax.net.ssl.SSLContext;
import javax.net.ssl.TrustManagerFactory;

/** Serves with a handed-over key store, and connects with the trust store that came with it. */
public class HandedOver {
    static KeyStore open(String file, char[] password) throws Exception {
        KeyStore store = KeyStore.getInstance("PKCS12");
        try (FileInputStream in = new FileInputStream(file)) {
            store.load(in, password);
        }
        return store;
    }

    public static void main(String[] args) throws Exception {
        char[] password = args[2].toCharArray();
        KeyStore own = open(args[0], password);
        System.out.println("chain " + own.getCertificateChain("server").length);
        KeyManagerFactory keys = KeyManagerFactory.getInstance("PKIX");
        keys.init(own, password);
        SSLContext serving = SSLContext.getInstance("TLS");
        serving.init(keys.getKeyManagers(), null, null);
        HttpsServer server = HttpsServer.create(new InetSocketAddress(InetAddress.getLoopbackAddress(), 0), 0);
        server.setHttpsConfigurator(new HttpsConfigurator(serving));
        server.createContext("/", e -> e.sendResponseHeaders(204, -1));
        server.start();
        TrustManagerFactory trust = TrustManagerFactory.getInstance("PKIX");
        trust.init(open(args[1], password));
        SSLContext client = SSLContext.getInstance("TLS");
        client.init(null, trust.getTrustManagers(), null);
        for (String host : new String[] {"localhost", "127.0.0.1"}) {
            HttpsURLConnection c = (HttpsURLConnection) new URL("https://" + host + ":" + server.getAddress().getPort() + "/").openConnection();
            c.setSSLSocketFactory(client.getSocketFactory());
            try {
                System.out.println("trusted " + c.getResponseCode());
            } catch (javax.net.ssl.SSLException e) {
                System.out.println("refused");
            }
        }
        server.stop(0);
    }
}
