import java.io.FileInputStream;
import java.io.FileOutputStream;
import java.net.URI;
import java.security.KeyPairGenerator;
import java.security.KeyStore;
import java.security.cert.Certificate;
import java.security.cert.CertificateFactory;
import javax.net.ssl.HttpsURLConnection;

/** Writes a store with a root that stands for itself, and a key with its chain; or connects
 *  with whatever this runtime trusts by itself. */
public class TrustStores {
    public static void main(String[] args) throws Exception {
        if (args[0].equals("get")) {
            HttpsURLConnection c = (HttpsURLConnection) URI.create(args[1]).toURL().openConnection();
            c.setConnectTimeout(10000);
            try {
                System.out.println("trusted " + c.getResponseCode());
            } catch (javax.net.ssl.SSLException e) {
                System.out.println("refused");
            }
            return;
        }
        char[] password = "changeit".toCharArray();
        KeyStore store = KeyStore.getInstance(args[1]);
        store.load(null, null);
        store.setCertificateEntry("root", read(args[3]));
        Certificate[] chain = new Certificate[args.length - 4];
        for (int i = 0; i < chain.length; i++) {
            chain[i] = read(args[4 + i]);
        }
        store.setKeyEntry("key", KeyPairGenerator.getInstance("EC").generateKeyPair().getPrivate(), password,
                chain);
        try (FileOutputStream out = new FileOutputStream(args[2])) {
            store.store(out, password);
        }
    }

    private static Certificate read(String file) throws Exception {
        try (FileInputStream in = new FileInputStream(file)) {
            return CertificateFactory.getInstance("X.509").generateCertificate(in);
        }
    }
}
