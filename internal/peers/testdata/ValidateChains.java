import java.io.*;
import java.nio.file.*;
import java.security.cert.*;
import java.util.*;

/** Validates many chains below one root: for each folder with leaf.der and mid.der it prints its name and "ok" or the reason. */
public class ValidateChains {
    public static void main(String[] args) throws Exception {
        CertificateFactory factory = CertificateFactory.getInstance("X.509");
        X509Certificate root = (X509Certificate) factory.generateCertificate(new FileInputStream(args[0]));
        File[] folders = new File(args[1]).listFiles();
        Arrays.sort(folders);
        for (File folder : folders) {
            String verdict = "ok";
            try {
                List<X509Certificate> chain = new ArrayList<>();
                for (String name : new String[] {"leaf.der", "mid.der"})
                    chain.add((X509Certificate) factory.generateCertificate(new ByteArrayInputStream(Files.readAllBytes(new File(folder, name).toPath()))));
                PKIXParameters parameters = new PKIXParameters(Set.of(new TrustAnchor(root, null)));
                parameters.setRevocationEnabled(false);
                CertPathValidator.getInstance("PKIX").validate(factory.generateCertPath(chain), parameters);
                for (X509Certificate c : chain) {
                    c.getSubjectAlternativeNames();
                    c.getExtendedKeyUsage();
                    c.getKeyUsage();
                }
            } catch (Exception e) {
                verdict = "refused " + e;
            }
            System.out.println(folder.getName() + " " + verdict.replace('\n', ' '));
        }
    }
}
