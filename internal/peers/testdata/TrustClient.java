import java.io.FileInputStream;
import java.net.URL;
import java.security.KeyStore;
import java.security.cert.CertificateFactory;
import javax.net.ssl.HttpsURLConnection;
import javax.net.ssl.SSLContext;
import javax.net.ssl.TrustManagerFactory;

/** Connects to each URL as a client that trusts one root alone, and prints what came of it. */
public class TrustClient {
    public static void main(String[] args) throws Exception {
        KeyStore store = KeyStore.getInstance("PKCS12");
        store.load(null, null);
        try (FileInputStream in = new FileInputStream(args[0])) {
            store.setCertificateEntry("root", CertificateFactory.getInstance("X.509").generateCertificate(in));
        }
        TrustManagerFactory trust = TrustManagerFactory.getInstance("PKIX");
        trust.init(store);
        SSLContext context = SSLContext.getInstance("TLS");
        context.init(null, trust.getTrustManagers(), null);
        for (int i = 1; i < args.length; i++) {
            HttpsURLConnection c = (HttpsURLConnection) new URL(args[i]).openConnection();
            c.setSSLSocketFactory(context.getSocketFactory());
            c.setConnectTimeout(10000);
            try {
                System.out.println("trusted " + c.getResponseCode());
            } catch (javax.net.ssl.SSLException e) {
                System.out.println("refused " + e.getMessage());
            }
        }
    }
}
