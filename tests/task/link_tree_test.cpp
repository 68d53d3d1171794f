#include "task/link_tree.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

std::optional<std::string> nothing(const std::string&) {
  return std::nullopt;
}

TEST(LinkTree, JudgesALinkByWhereItLeads) {
  LinkTree tree(nothing);
  tree.add("a/up", "../b");
  tree.add("a/out", "../../etc/passwd");
  tree.add("root", "/etc");
  tree.add("a/b/c/self", "../../..");
  EXPECT_EQ(tree.where("a/up"), Leads::inside);
  EXPECT_EQ(tree.where("a/out"), Leads::out);
  EXPECT_EQ(tree.where("root"), Leads::absolute);
  EXPECT_EQ(tree.where("a/b/c/self"), Leads::inside) << "the output folder itself";
}

TEST(LinkTree, TwoHarmlessLinksDoNotLeadOutTogether) {
  LinkTree tree(nothing);
  tree.add("a/b/c/L", "../../..");
  tree.add("N", "a/b/c/L/..");
  tree.add("M", "a/b/c/L/../../../etc/passwd");
  tree.add("through", "N/x");
  EXPECT_EQ(tree.where("N"), Leads::out);
  EXPECT_EQ(tree.where("M"), Leads::out);
  EXPECT_EQ(tree.where("through"), Leads::out);
}

TEST(LinkTree, ALinkThroughAnAbsoluteOneIsAbsolute) {
  LinkTree tree(nothing);
  tree.add("etc", "/etc");
  tree.add("passwd", "etc/passwd");
  EXPECT_EQ(tree.where("passwd"), Leads::absolute);
}

TEST(LinkTree, KnowsLinksThatAreThereAlready) {
  LinkTree tree([](const std::string& path) {
    return path == "old" ? std::optional<std::string>("..") : std::nullopt;
  });
  tree.add("new", "old/x");
  EXPECT_EQ(tree.where("new"), Leads::out);
  tree.add("old", "inside");
  EXPECT_EQ(tree.where("new"), Leads::inside) << "the new link takes the place of the old one";
  tree.remove("old");
  EXPECT_EQ(tree.where("new"), Leads::out);
}

TEST(LinkTree, ALoopEnds) {
  LinkTree tree(nothing);
  tree.add("a", "b");
  tree.add("b", "a");
  EXPECT_EQ(tree.where("a"), Leads::inside);
}

}  // namespace
}  // namespace operculum
